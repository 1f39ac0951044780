"""What an attempt may become."""

from __future__ import annotations

from sqlalchemy import func, select, update
from sqlalchemy.orm import Session

from myriant.core.plan.model import Plan
from myriant.flow.plans import plan_of
from myriant.flow.state.advance import advance
from myriant.store.changes import ring_runners, tell
from myriant.store.tables import Attempt, Cell, Control, Project, Run

TRIES_AFTER_LOSS = 2  # further attempts of a cell whose runner is lost each time


def lose(session: Session, attempt: Attempt, reason: str) -> None:
    """The runner is lost: the attempt is void, and its cell waits for another or is void itself."""
    attempt.state, attempt.reason, attempt.ended_at = "void", reason, func.now()
    if attempt.number < 0:
        session.execute(update(Control).where(Control.attempt_id == attempt.id).values(state="given-up"))
        return
    cell = session.get_one(Cell, attempt.cell_id, with_for_update=True)
    if cell.attempt_id != attempt.id or cell.state != "running":
        return
    run = session.get_one(Run, cell.run_id)
    plan = plan_of(run.plan)
    if may_try_again(session, attempt, plan, cell):
        wait_again(session, cell, attempt, reason)
    else:
        cell.state, cell.mark, cell.reason = "void", "void", reason
        session.flush()
        session.refresh(run, with_for_update=True)
        advance(session, run, plan, cell)
    tell_run(session, attempt, "cell")


def may_try_again(session: Session, attempt: Attempt, plan: Plan | None, cell: Cell) -> bool:
    """Whether a cell whose runner or machine failed it is given to a runner once more, as its plan says."""
    voids = select(func.count()).where(Attempt.cell_id == cell.id, Attempt.state == "void", Attempt.number > 0)
    lost = session.scalar(voids) or 0
    return lost <= (plan.job(cell.job).retry.void if plan is not None else TRIES_AFTER_LOSS)


def wait_again(session: Session, cell: Cell, attempt: Attempt, reason: str) -> None:
    cell.state, cell.mark, cell.reason = "waiting", "waiting", f"again after attempt {attempt.number}: {reason}"
    ring_runners(session)


def tell_run(session: Session, attempt: Attempt, kind: str) -> None:
    row = session.execute(
        select(Project.name, Run.number)
        .join(Run, Run.project_id == Project.id)
        .join(Cell, Cell.run_id == Run.id)
        .where(Cell.id == attempt.cell_id)
    ).one()
    tell(session, kind, row[0], row[1])
