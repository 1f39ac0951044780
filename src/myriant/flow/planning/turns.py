"""Turns are given to a run's cells when they are made: see core/matrix/turns.py for how."""

from __future__ import annotations

import statistics
from collections.abc import Collection

from sqlalchemy.orm import Session

from myriant.core.matrix.forecast import USUAL_SECONDS
from myriant.core.matrix.turns import chains, cost
from myriant.core.plan.model import Plan
from myriant.core.states import Mark
from myriant.store.cells import cells_of, past_cells, rank_served_now
from myriant.store.tables import Project, Run

_PAST = 400  # cells of a job looked back for what they took and told
_KEPT = 10  # of their durations


def give_ranks(session: Session, run: Run, plan: Plan) -> None:
    """Give a run's cells their predicted seconds and their turns in the shared queue."""
    cells = list(cells_of(session, run.id))
    told, took = _past(session, run, {c.job for c in cells})
    for cell in cells:
        seconds = took.get((cell.job, cell.key)) or took.get((cell.job, None))
        cell.predicted = statistics.median(seconds) if seconds else None
    chain = chains(plan, {c.job: c.predicted or USUAL_SECONDS for c in cells})
    cells.sort(
        key=lambda c: (
            c.gated,
            c.advisory,
            -told.get((c.job, c.key), 0),
            -chain.get(c.job, 0.0),
            -(c.predicted or 0.0),
            c.position,
        )
    )
    project = session.get_one(Project, run.project_id, with_for_update=True)  # plans may be read side by side
    session.refresh(project)
    rank = max(rank_served_now(session, run.id), project.served)
    for cell in cells:
        if cell.selected:
            rank += cost(cell.predicted, run.event)
            cell.rank = rank
    project.served = rank


def _past(
    session: Session, run: Run, jobs: Collection[str]
) -> tuple[dict[tuple[str, str], int], dict[tuple[str, str | None], list[float]]]:
    """By job and key: how often a cell newly failed of late, and the seconds it took when it could be trusted."""
    told: dict[tuple[str, str], int] = {}
    took: dict[tuple[str, str | None], list[float]] = {}
    for job in sorted(jobs):
        for key, mark, reused, began, ended in past_cells(session, run, job, _PAST):
            told[(job, key)] = told.get((job, key), 0) + (mark in (Mark.NEW, Mark.FIRST))
            if reused is None and ended is not None:
                seconds = (ended - began).total_seconds()
                for name in ((job, key), (job, None)):
                    known = took.setdefault(name, [])
                    if len(known) < _KEPT:
                        known.append(seconds)
    return told, took
