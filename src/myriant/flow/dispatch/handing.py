"""Handing over: what the jobs that a job waits for have given."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.plan.model import Job
from myriant.flow.plans import plan_of
from myriant.store.tables import Cell, Report, Run


@dataclass(frozen=True, slots=True)
class HandedFile:
    """A file that an earlier job handed over; `key` is empty when that job has only one cell."""

    report: int
    job: str
    key: str
    path: str


def handed_to(session: Session, run: Run, job: Job) -> list[HandedFile]:
    """What the jobs that a job waits for, near and far, have handed over."""
    plan = plan_of(run.plan)
    awaited: set[str] = set()
    queue = [a.job for a in job.after]
    while plan is not None and queue:
        name = queue.pop()
        if name not in awaited:
            awaited.add(name)
            queue += [a.job for a in plan.job(name).after]
    if not awaited:
        return []
    rows = session.execute(
        select(Report.id, Cell.job, Cell.key, Report.path)
        .join(Cell, Cell.attempt_id == Report.attempt_id)
        .where(Cell.run_id == run.id, Cell.job.in_(awaited), Report.content == "hand-over")
        .order_by(Report.id)
    ).all()
    cells = dict(
        session.execute(
            select(Cell.job, func.count()).where(Cell.run_id == run.id, Cell.selected).group_by(Cell.job)
        ).all()
    )
    return [HandedFile(r, j, key if cells.get(j, 1) > 1 else "", path) for r, j, key, path in rows]
