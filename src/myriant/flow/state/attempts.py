"""What an attempt may become."""

from __future__ import annotations

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.plan.model import Plan
from myriant.core.states import ATTEMPT_MOVES, State, Why, check_move
from myriant.flow.plans import plan_of_run
from myriant.flow.state import cells, controls
from myriant.flow.state.advance import advance
from myriant.store.attempts import voids_of
from myriant.store.changes import ring_runners, tell_of_attempt
from myriant.store.records import Finish
from myriant.store.tables import Attempt, Cell, Run

TRIES_AFTER_LOSS = 2  # further attempts of a cell whose runner is lost each time


def deliver(attempt: Attempt, said: Finish) -> None:
    """Its runner is done; only its reports can tell what became of it."""
    _become(attempt, State.READING)
    attempt.finish, attempt.ended_at, attempt.runtimes = said, func.now(), dict(said.runtimes)


def end(attempt: Attempt, state: State, reason: str) -> None:
    """Its reports have been read."""
    _become(attempt, state)
    attempt.reason = reason


def stop(attempt: Attempt, reason: str) -> None:
    """A person or a newer event ends it; the runner hears of it with its next heartbeat."""
    if attempt.state == State.RUNNING:
        _become(attempt, State.STOPPED)
        attempt.reason, attempt.ended_at = reason, func.now()


def lose(session: Session, attempt: Attempt, reason: str) -> None:
    """Its runner is lost: it is void, and its cell waits for another or is void itself."""
    _become(attempt, State.VOID)
    attempt.reason, attempt.ended_at = reason, func.now()
    if attempt.number < 0:
        controls.give_up_attempt(session, attempt)
        return
    cell = session.get_one(Cell, attempt.cell_id, with_for_update=True)
    if cell.attempt_id != attempt.id or cell.state != State.RUNNING:
        return
    run = session.get_one(Run, cell.run_id)
    plan = plan_of_run(session, run)
    if may_try_again(session, attempt, plan, cell):
        wait_again(session, cell, attempt, reason)
    else:
        cells.void(cell, Why.LOST, reason)
        session.flush()
        session.refresh(run, with_for_update=True)
        advance(session, run, plan, cell)
    tell_of_attempt(session, attempt, "cell")


def may_try_again(session: Session, attempt: Attempt, plan: Plan | None, cell: Cell) -> bool:
    """Whether a cell whose runner or machine failed it is given to a runner once more, as its plan says.

    One behind the verdict is not: nobody knows how far a release came, and only a person may repeat it.
    """
    if cell.gated:
        return False
    lost = voids_of(session, attempt.cell_id)
    return lost <= (plan.job(cell.job).retry.void if plan is not None else TRIES_AFTER_LOSS)


def wait_again(session: Session, cell: Cell, attempt: Attempt, reason: str) -> None:
    cells.wait_again(cell, attempt, reason)
    ring_runners(session)


def _become(attempt: Attempt, then: State) -> None:
    check_move(f"attempt {attempt.id}", ATTEMPT_MOVES, State(attempt.state), then)
    attempt.state = then
