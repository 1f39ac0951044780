"""Turns: in which order waiting cells are given to runners.

Turns are given by start-time fair queuing (Goyal, Vin, Cheng 1996): each project has a rank that grows with
what it was served, slower for events that people wait for; so one project's hundred cells do not keep another's
single one waiting. Within a run, cells that told most in the past come first.
"""

from __future__ import annotations

import statistics
from collections.abc import Collection

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.matrix.forecast import USUAL_SECONDS
from myriant.core.plan.model import Plan
from myriant.store.runs import RUNNING, WAITING
from myriant.store.tables import Attempt, Cell, Project, Run

_SHARE = {"schedule": 4.0}  # how much more a cell of such an event counts


_PAST = 400  # cells of a job looked back for what they took and told


def give_ranks(session: Session, run: Run, plan: Plan) -> None:
    """Give a run's cells their predicted seconds and their turns in the shared queue."""
    cells = list(session.scalars(select(Cell).where(Cell.run_id == run.id)))
    told, took = _past(session, run, {c.job for c in cells})
    for cell in cells:
        seconds = took.get((cell.job, cell.key)) or took.get((cell.job, None))
        cell.predicted = statistics.median(seconds) if seconds else None
    chain = _awaited(plan, {c.job: c.predicted or USUAL_SECONDS for c in cells})
    cells.sort(
        key=lambda c: (
            c.gated, c.advisory, -told.get((c.job, c.key), 0), -chain.get(c.job, 0.0), -(c.predicted or 0.0), c.position
        )
    )  # fmt: skip
    project = session.get_one(Project, run.project_id, with_for_update=True)  # plans may be read side by side
    rank = max(_served_now(session, run.id), project.served)
    for cell in cells:
        if cell.selected:
            rank += (cell.predicted or USUAL_SECONDS) * _SHARE.get(run.event, 1.0)
            cell.rank = rank
    project.served = rank


def _served_now(session: Session, but: int = 0) -> float:
    """The rank at which the queue stands: of what started last, else of what is first, without the run `but`."""
    others = Cell.run_id != but
    running = session.scalar(select(func.max(Cell.rank)).where(Cell.state == RUNNING, others))
    if running is not None:
        return running
    waiting = session.scalar(select(func.min(Cell.rank)).where(Cell.state == WAITING, Cell.ready, others))
    if waiting is not None:
        return waiting
    return session.scalar(select(func.max(Project.served))) or 0.0


def queue_front(session: Session) -> float:
    """A rank before everything that waits: a person asked for it just now."""
    least = session.scalar(select(func.min(Cell.rank)).where(Cell.state == WAITING, Cell.ready))
    return min(least, _served_now(session)) - 1.0 if least is not None else _served_now(session)


def _past(
    session: Session, run: Run, jobs: Collection[str]
) -> tuple[dict[tuple[str, str], int], dict[tuple[str, str | None], list[float]]]:
    """By job and key: how often a cell newly failed of late, and the seconds it took when it could be trusted."""
    told: dict[tuple[str, str], int] = {}
    took: dict[tuple[str, str | None], list[float]] = {}
    for job in sorted(jobs):
        rows = session.execute(
            select(Cell.key, Cell.mark, Cell.reused, Attempt.created_at, Attempt.ended_at)
            .join(Run, Run.id == Cell.run_id)
            .join(Attempt, Attempt.id == Cell.attempt_id)
            .where(Run.project_id == run.project_id, Cell.job == job, Run.id < run.id)
            .where(Cell.state.in_(("passed", "failed")))
            .order_by(Cell.id.desc())
            .limit(_PAST)
        )
        for key, mark, reused, began, ended in rows:
            told[(job, key)] = told.get((job, key), 0) + (mark in ("new", "first"))
            if reused is None and ended is not None:
                seconds = (ended - began).total_seconds()
                for name in ((job, key), (job, None)):
                    known = took.setdefault(name, [])
                    if len(known) < 10:
                        known.append(seconds)
    return told, took


def _awaited(plan: Plan, seconds: dict[str, float]) -> dict[str, float]:
    """By job, the seconds of the longest chain of jobs that wait for it."""
    found: dict[str, float] = {}

    def of(job: str) -> float:
        if job not in found:
            found[job] = 0.0  # a cycle was refused when the plan was read
            behind = [j.id for j in plan.jobs if any(a.job == job for a in j.after)]
            found[job] = max((of(j) + seconds.get(j, 0.0) for j in behind), default=0.0)
        return found[job]

    for job in plan.jobs:
        of(job.id)
    return found
