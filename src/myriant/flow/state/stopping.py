"""Stopping: cells end before they have, and give back the turns that they did not use."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from myriant.core.matrix.turns import cost
from myriant.core.states import OPEN, State, Why
from myriant.flow.state import attempts, cells, runs
from myriant.store.attempts import leased
from myriant.store.cells import cells_left_to_judge, give_back_turns, locked_cells
from myriant.store.changes import tell_of_run
from myriant.store.tables import Attempt, Cell, Run


def stop_cells(session: Session, run: Run, doomed: Sequence[Cell], why: Why, reason: str) -> None:
    """End cells that wait or run; the run is concluded when nothing of it is left.

    What has ended but for the reading of its reports ends by itself.
    """
    doomed = _locked(session, doomed)
    if not doomed:
        return
    unused = sum(cost(c.predicted, run.event) for c in doomed if c.state == State.WAITING and c.attempt_id is None)
    for cell in doomed:
        if cell.state == State.RUNNING and cell.attempt_id is not None:
            attempts.stop(session.get_one(Attempt, cell.attempt_id, with_for_update=True), reason)
        cells.stop(cell, why, reason)
    session.flush()
    give_back_turns(session, run.project_id, unused)
    session.refresh(run, with_for_update=True)  # after the attempts, as everywhere
    if not cells_left_to_judge(session, run.id) and run.ended_at is None:
        runs.call_for_conclusion(session, run)
    tell_of_run(session, run)


def _locked(session: Session, cells: Sequence[Cell]) -> list[Cell]:
    """Those that wait or run still, locked as they are now: a runner may have taken one since they were read. Attempts
    come before cells, as where an attempt ends.
    """
    session.flush()
    leased(session, [c.attempt_id for c in cells if c.attempt_id is not None])
    now = locked_cells(session, [c.id for c in cells])
    holding = leased(session, [c.attempt_id for c in now if c.attempt_id is not None])
    reading = {a.id for a in holding if a.state == State.READING}
    return [c for c in now if c.state in OPEN and c.attempt_id not in reading]
