"""Preconditions: what must be there before a job's cells may wait for a runner."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy.orm import Session

from myriant.core.plan.expectations import unmet
from myriant.core.plan.model import Plan
from myriant.core.states import State, Why
from myriant.flow.compare.grants import lacking
from myriant.flow.state import cells
from myriant.store.cells import cells_of_job
from myriant.store.tables import Run


def meet_expectations(session: Session, run: Run, plan: Plan, files: Mapping[str, bytes | None]) -> None:
    """Void the cells of jobs whose expectations of the tag are not met."""
    for job in plan.jobs:
        if job.expect is None or not run.tag:
            continue
        why = unmet(job.expect, run.tag, files)
        if why:
            for cell in cells_of_job(session, run.id, job.id):
                cells.void(cell, Why.EXPECTATION, why)


def require_secrets(session: Session, run: Run, plan: Plan) -> None:
    """Void the cells of jobs that ask for secrets which they are not given, before anything runs."""
    for job in plan.jobs:
        why = lacking(session, run, job)
        if why:
            for cell in cells_of_job(session, run.id, job.id):
                if cell.state == State.WAITING:
                    cells.void(cell, Why.SECRET, why)
