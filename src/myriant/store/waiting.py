"""Questions about the queue: what runs and waits, and why."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

from sqlalchemy import ColumnElement, Row, func, or_, select
from sqlalchemy.orm import Session

from myriant.core.matrix.forecast import USUAL_SECONDS
from myriant.core.states import OPEN, State
from myriant.store.runs import RUNNING, WAITING
from myriant.store.tables import Attempt, Cell, Project, Run


def sums_of_work(session: Session) -> Sequence[tuple[list[str], State, int, float, float]]:
    """By what cells want and their state: how many, predicted seconds in all, and of the longest."""
    seconds = func.coalesce(Cell.predicted, USUAL_SECONDS)
    return session.execute(
        select(Cell.wants, Cell.state, func.count(), func.sum(seconds), func.max(seconds))
        .where(Cell.state.in_(OPEN))
        .group_by(Cell.wants, Cell.state)
    ).all()


def running_rows(session: Session, most: int) -> list[Row[Any]]:
    return _rows(session, Cell.state == RUNNING, most)


def waiting_rows(session: Session, most: int) -> list[Row[Any]]:
    """Waiting cells, those whose turn it is first."""
    return _rows(session, Cell.state == WAITING, most)


def waiting_rows_of_run(session: Session, run_id: int, most: int) -> list[Row[Any]]:
    return _rows(session, (Cell.state == WAITING) & (Cell.run_id == run_id), most)


def waiting_rows_wanting(session: Session, wishes: Sequence[list[str]], most: int) -> list[Row[Any]]:
    return _rows(session, (Cell.state == WAITING) & or_(*(Cell.wants == wants for wants in wishes)), most)


def wishes_of_waiting(session: Session) -> Sequence[list[str]]:
    return session.scalars(select(Cell.wants).where(Cell.state == WAITING).distinct()).all()


def plans_of_runs(session: Session, runs: Collection[int]) -> Sequence[Run]:
    return session.scalars(select(Run).where(Run.id.in_(runs))).all() if runs else []


def _rows(session: Session, which: ColumnElement[bool], most: int) -> list[Row[Any]]:
    return list(
        session.execute(
            select(
                Cell.id, Cell.run_id, Cell.job, Cell.key, Cell.wants, Cell.state, Cell.ready, Cell.reason,
                Cell.predicted, Cell.at_once, Run.number, Run.event, Project.name.label("project"),
                Attempt.created_at.label("began"), Attempt.runner,
            )
            .join(Run, Run.id == Cell.run_id)
            .join(Project, Project.id == Run.project_id)
            .outerjoin(Attempt, (Attempt.id == Cell.attempt_id) & (Cell.state == RUNNING))
            .where(which)
            .order_by(Cell.ready.desc(), Cell.rank, Cell.id)
            .limit(most)
        )
    )  # fmt: skip
