"""Superseding: what a newer event makes an older one give up."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.plan.model import Plan
from myriant.core.states import EventKind, State, Why
from myriant.flow.state.stopping import stop_cells
from myriant.store.cells import open_cells_of
from myriant.store.runs import older_waiting_runs
from myriant.store.tables import Run

_SUPERSEDING = (EventKind.PUSH, EventKind.PULL_REQUEST)


def supersede_older(session: Session, run: Run, plan: Plan) -> None:
    """Stop what an older event of the same context still waits for, as each job says."""
    if run.event not in _SUPERSEDING:
        return
    usual = "running" if run.event == EventKind.PULL_REQUEST else "waiting"
    stops = {job.id: job.supersede or usual for job in plan.jobs}
    for older in older_waiting_runs(session, run):
        cells = open_cells_of(session, older.id)
        going = {c.job for c in cells if c.state == State.RUNNING}
        doomed = [
            c
            for c in cells
            if (how := stops.get(c.job, usual)) != "never"
            and (c.state == State.WAITING or how == "running")
            and (how == "running" or c.job not in going)
        ]
        stop_cells(session, older, doomed, Why.SUPERSEDED, f"superseded by #{run.number}")
