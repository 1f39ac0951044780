"""Preconditions: what must be there before a job's cells may wait for a runner."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.core.plan.expectations import unmet
from myriant.core.plan.model import Plan
from myriant.flow.planning.grants import lacking
from myriant.store.tables import Cell, Run


def meet_expectations(session: Session, run: Run, plan: Plan, files: Mapping[str, bytes | None]) -> None:
    """Void the cells of jobs whose expectations of the tag are not met."""
    for job in plan.jobs:
        if job.expect is None or not run.tag:
            continue
        why = unmet(job.expect, run.tag, files)
        if why:
            for cell in session.scalars(select(Cell).where(Cell.run_id == run.id, Cell.job == job.id)):
                cell.state, cell.mark, cell.reason = "void", "void", why


def require_secrets(session: Session, run: Run, plan: Plan) -> None:
    """Void the cells of jobs that ask for secrets which they are not given, before anything runs."""
    for job in plan.jobs:
        why = lacking(session, run, job)
        if why:
            for cell in session.scalars(select(Cell).where(Cell.run_id == run.id, Cell.job == job.id)):
                if cell.state == "waiting":
                    cell.state, cell.mark, cell.reason = "void", "void", why
