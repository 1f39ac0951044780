"""What a control run may become."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.states import CONTROL_MOVES, TRUSTED, ControlState, check_move
from myriant.store.changes import tell_of_run
from myriant.store.controls import control_of_attempt, searches_in_cell, waiting_tries_of
from myriant.store.queue import defer
from myriant.store.tables import Attempt, Control, Run


def begin(control: Control, attempt: Attempt) -> None:
    """A runner has it."""
    _become(control, ControlState.RUNNING)
    control.attempt_id = attempt.id


def give_up(control: Control) -> None:
    """No answer will come of it."""
    _become(control, ControlState.GIVEN_UP)


def give_up_attempt(session: Session, attempt: Attempt) -> None:
    control = control_of_attempt(session, attempt.id)
    if control is not None:
        give_up(control)
        _ask_on(session, control)


def give_up_tries(session: Session, search_id: int) -> None:
    """No further try of a search is wanted."""
    for control in waiting_tries_of(session, search_id):
        give_up(control)


def end(session: Session, attempt: Attempt) -> None:
    """The attempt that repeats a cell has ended: more may be asked of its cell, and every search in it goes on."""
    control = control_of_attempt(session, attempt.id)
    if control is None:
        return
    _become(control, ControlState.DONE if attempt.state in TRUSTED else ControlState.GIVEN_UP)
    tell_of_run(session, session.get_one(Run, control.run_id))
    _ask_on(session, control)


def _ask_on(session: Session, control: Control) -> None:
    """What is asked of its cell may want another repeat, also where this one gave nothing."""
    if control.search_id is None:
        defer(session, "repeat", lock=f"repeat-{control.run_id}", run_id=control.run_id)
    for search in searches_in_cell(session, control.cell_id):
        defer(session, "search", lock=f"search-{search}", search_id=search)


def _become(control: Control, then: ControlState) -> None:
    check_move(f"control run {control.id}", CONTROL_MOVES, ControlState(control.state), then)
    control.state = then
