"""Handing over: what the jobs that a job waits for have given."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from myriant.core.plan.intent import awaited_by
from myriant.core.plan.model import Job
from myriant.flow.plans import plan_of_run
from myriant.store.attempts import handed_over
from myriant.store.cells import selected_by_job
from myriant.store.tables import Run


@dataclass(frozen=True, slots=True)
class HandedFile:
    """A file that an earlier job handed over, or one of another project; `key` is empty when it has only one cell."""

    report: int
    job: str
    key: str
    path: str
    digest: str = ""  # SHA-256


def handed_to(session: Session, run: Run, job: Job) -> list[HandedFile]:
    """What the jobs that a job waits for, near and far, have handed over, and what it takes from other projects."""
    taken = [
        HandedFile(t["report"], f"{t['project']}/{t['made_by']}", t["key"], t["path"], t["digest"])
        for t in run.taken
        if t["job"] == job.id
    ]
    plan = plan_of_run(session, run)
    awaited = awaited_by(plan, job) if plan is not None else []
    if not awaited:
        return taken
    rows = handed_over(session, run.id, awaited)
    cells = selected_by_job(session, run.id)
    return taken + [
        HandedFile(r, j, key if cells.get(j, 1) > 1 else "", path, digest) for r, j, key, path, digest in rows
    ]
