"""Superseding: what a newer event makes an older one give up."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.core.plan.model import Plan
from myriant.flow.state.advance import stop_cells
from myriant.store.runs import older_waiting_runs
from myriant.store.tables import Cell, Project, Run


def supersede_older(session: Session, project: Project, run: Run, plan: Plan) -> None:
    """Stop what an older event of the same purpose still waits for, as each job says."""
    if run.event not in ("push", "pull-request"):
        return
    usual = "running" if run.event == "pull-request" else "waiting"
    stops = {job.id: job.supersede or usual for job in plan.jobs}
    for older in older_waiting_runs(session, run):
        cells = session.scalars(
            select(Cell).where(Cell.run_id == older.id, Cell.state.in_(("waiting", "running")))
        ).all()
        going = {c.job for c in cells if c.state == "running"}
        doomed = [
            c for c in cells
            if (how := stops.get(c.job, usual)) != "never" and (c.state == "waiting" or how == "running")
            and (how == "running" or c.job not in going)
        ]  # fmt: skip
        stop_cells(session, project, older, doomed, f"superseded by #{run.number}")
