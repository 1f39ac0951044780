"""What a cell may become."""

from __future__ import annotations

from collections.abc import Mapping

from myriant.core.states import CELL_MOVES, Mark, State, Why, check_move
from myriant.store.records import Counts
from myriant.store.tables import Attempt, Cell

_MARKS: Mapping[State, Mark] = {
    state: Mark.NEW if state is State.FAILED else Mark(state) for state in State if state is not State.READING
}


def start(cell: Cell, attempt: Attempt) -> None:
    """A runner has it."""
    _become(cell, State.RUNNING)
    cell.attempt_id, cell.reason, cell.why = attempt.id, "", Why.NOTHING


def wait_again(cell: Cell, attempt: Attempt, reason: str) -> None:
    """Its attempt gave no result; another one is due."""
    _become(cell, State.WAITING)
    cell.reason, cell.why = f"again after attempt {attempt.number}: {reason}", Why.LOST


def end(cell: Cell, state: State, reason: str, why: Why, counts: Counts) -> None:
    """Its attempt's reports have been read."""
    _become(cell, state)
    cell.reason, cell.why, cell.counts = reason, why, counts


def take_over(cell: Cell, state: State, attempt_id: int, run: int, why: Why, reason: str) -> None:
    """The result of another run's attempt is its own."""
    _become(cell, state)
    cell.attempt_id, cell.reused, cell.why, cell.reason = attempt_id, run, why, reason


def void(cell: Cell, why: Why, reason: str) -> None:
    """It gives no result that can be trusted."""
    _become(cell, State.VOID)
    cell.why, cell.reason = why, reason


def skip(cell: Cell, why: Why, reason: str) -> None:
    """Its turn never comes."""
    _become(cell, State.SKIPPED)
    cell.why, cell.reason = why, reason
    if why is Why.NOT_SELECTED:
        cell.mark = Mark.NOT_SELECTED


def stop(cell: Cell, why: Why, reason: str) -> None:
    """It is ended before it has."""
    _become(cell, State.STOPPED)
    cell.why, cell.reason = why, reason


def keep_waiting(cell: Cell, why: Why, reason: str) -> None:
    """Say what it waits for."""
    cell.why, cell.reason = why, reason


def release(cell: Cell) -> None:
    """Nothing of the plan keeps it from starting any more."""
    cell.ready, cell.why, cell.reason = True, Why.NOTHING, ""


def again(cell: Cell, by: str, *, ready: bool) -> None:
    """A person wants another attempt: the one way out of an end. It keeps its place in line."""
    cell.state, cell.mark = State.WAITING, Mark.WAITING
    cell.ready, cell.selected, cell.reused = ready, True, None
    if not ready:
        cell.content = None  # nothing else is taken for the answer that a person wants
    cell.why, cell.reason = Why.AGAIN, f"again, by {by}"


def deliver_again(cell: Cell, attempt: Attempt) -> None:
    """A further result of it was sent from elsewhere."""
    cell.state, cell.mark, cell.attempt_id = State.RUNNING, Mark.RUNNING, attempt.id


def _become(cell: Cell, then: State) -> None:
    check_move(f"cell {cell.id}", CELL_MOVES, State(cell.state), then)
    cell.state, cell.mark = then, _MARKS[then]
