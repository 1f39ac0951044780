"""Questions about control runs and searches."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime

from sqlalchemy import ColumnElement, delete, func, select, true
from sqlalchemy.orm import Session

from myriant.core.states import ControlState, Place, SearchState
from myriant.store.runs import WAITING
from myriant.store.tables import Attempt, Cell, Control, Run, Search


def _of_run(run_id: int) -> ColumnElement[bool]:
    return (Control.run_id == run_id) & (Control.place != Place.SEARCH)


def waiting_controls(
    session: Session, offers: Sequence[str], projects: Sequence[int] | None = None
) -> Sequence[tuple[Control, Cell, Run]]:
    """Control runs that a runner with these offers could start, oldest first, locked for this transaction."""
    query = (
        select(Control, Cell, Run)
        .join(Cell, Cell.id == Control.cell_id)
        .join(Run, Run.id == Control.run_id)
        .where(Control.state == WAITING, Cell.wants.contained_by(list(offers)))
        .where(Run.project_id.in_(projects) if projects is not None else true())
        .order_by(Control.id)
        .limit(4)
        .with_for_update(skip_locked=True, of=Control)
    )
    return session.execute(query).all()


def control_of_attempt(session: Session, attempt_id: int) -> Control | None:
    """The control run that an attempt is, locked for this transaction."""
    return session.scalar(select(Control).where(Control.attempt_id == attempt_id).with_for_update())


def cells_controlled(session: Session, run_id: int) -> set[int]:
    """Cells of a run of which a control run has begun."""
    query = select(Control.cell_id).where(_of_run(run_id), Control.state != ControlState.WAITING)
    return set(session.scalars(query))


def forget_waiting_controls(session: Session, run_id: int, but: Collection[int] = ()) -> None:
    """Take back control runs of a run that have not begun, those of some cells excepted."""
    gone = delete(Control).where(_of_run(run_id), Control.state == ControlState.WAITING)
    session.execute(gone.where(Control.cell_id.not_in(but)) if but else gone)


def open_controls(session: Session) -> int:
    """How many cells are repeated or wait for it, for control runs and searches."""
    query = select(func.count()).select_from(Control)
    return session.scalar(query.where(Control.state.in_((ControlState.WAITING, ControlState.RUNNING)))) or 0


def stale_controls(session: Session, before: datetime) -> Sequence[Control]:
    """Waiting control runs of runs that ended before a time, locked for this transaction."""
    return session.scalars(
        select(Control)
        .join(Run, Run.id == Control.run_id)
        .where(Control.state == WAITING, Control.place != Place.SEARCH, Run.ended_at < before)
        .with_for_update(skip_locked=True, of=Control)
    ).all()


def has_controls(session: Session, run_id: int) -> bool:
    """Whether cells of a run are, or were, repeated."""
    query = select(Control.id).where(Control.run_id == run_id, Control.search_id.is_(None)).limit(1)
    return session.scalar(query) is not None


def controls_of_run(session: Session, run_id: int) -> Sequence[tuple[Control, str, str]]:
    """Control runs of a run with the job and key of their cells."""
    query = select(Control, Cell.job, Cell.key).join(Cell, Cell.id == Control.cell_id).where(_of_run(run_id))
    return session.execute(query.order_by(Control.id)).all()


# --- searches -------------------------------------------------------------------------------------


def searches_for(session: Session, run_id: int, test: int) -> Sequence[Search]:
    """The searches of a test in a run, the newest first."""
    query = select(Search).where(Search.run_id == run_id, Search.test == test).order_by(Search.id.desc())
    return session.scalars(query).all()


def searches_in_cell(session: Session, cell_id: int) -> Sequence[int]:
    """Running searches in a cell: what one of them tries, all of them know."""
    return session.scalars(
        select(Search.id).where(Search.cell_id == cell_id, Search.state == SearchState.RUNNING)
    ).all()


def tries_under_way(session: Session, cell_id: int) -> Sequence[str]:
    """Commits that are being tried in a cell, or wait for it, for whatever reason."""
    states = (ControlState.WAITING, ControlState.RUNNING)
    return session.scalars(select(Control.commit).where(Control.cell_id == cell_id, Control.state.in_(states))).all()


def lost_tries(session: Session, search_id: int) -> int:
    """Tries of a search that gave no result that can be trusted."""
    query = select(func.count()).where(Control.search_id == search_id, Control.state == ControlState.GIVEN_UP)
    return session.scalar(query) or 0


def waiting_tries_of(session: Session, search_id: int) -> Sequence[Control]:
    """Tries of a search that no runner has yet, locked for this transaction."""
    query = select(Control).where(Control.search_id == search_id, Control.state == ControlState.WAITING)
    return session.scalars(query.with_for_update()).all()


def searches_without_tries(session: Session) -> Sequence[Search]:
    """Running searches of which no try waits or runs, locked for this transaction."""
    under_way = select(Control.search_id).where(
        Control.state.in_((ControlState.WAITING, ControlState.RUNNING)), Control.search_id.is_not(None)
    )
    query = select(Search).where(Search.state == SearchState.RUNNING, Search.id.not_in(under_way))
    return session.scalars(query.with_for_update()).all()


def cells_with_attempts(session: Session, run_id: int) -> Sequence[tuple[Cell, int]]:
    """Cells of a run with the id of their newest attempt."""
    query = select(Cell, Attempt.id).join(Attempt, Attempt.id == Cell.attempt_id).where(Cell.run_id == run_id)
    return session.execute(query).all()
