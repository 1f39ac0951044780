"""Questions about the queue: what runs and waits, and why."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any

from sqlalchemy import ColumnElement, Row, func, or_, select
from sqlalchemy.orm import Session

from myriant.core.matrix.forecast import USUAL_SECONDS
from myriant.core.states import OPEN, State, Why
from myriant.store.runs import RUNNING, WAITING
from myriant.store.tables import Attempt, Cell, Project, Run


def sums_of_work(session: Session) -> Sequence[tuple[list[str], int, State, int, float, float]]:
    """By what cells want, their project and state: how many, predicted seconds in all, and of the longest."""
    seconds = func.coalesce(Cell.predicted, USUAL_SECONDS)
    return session.execute(
        select(Cell.wants, Run.project_id, Cell.state, func.count(), func.sum(seconds), func.max(seconds))
        .join(Run, Run.id == Cell.run_id)
        .where(Cell.state.in_(OPEN), Cell.why != Why.APPROVAL)  # what waits for a person is no work yet
        .group_by(Cell.wants, Run.project_id, Cell.state)
    ).all()


def running_rows(session: Session, most: int) -> list[Row[Any]]:
    return _rows(session, Cell.state == RUNNING, most)


def waiting_rows(session: Session, most: int) -> list[Row[Any]]:
    """Waiting cells, those whose turn it is first."""
    return _rows(session, Cell.state == WAITING, most)


def waiting_rows_of_run(session: Session, run_id: int, most: int) -> list[Row[Any]]:
    return _rows(session, (Cell.state == WAITING) & (Cell.run_id == run_id), most)


def waiting_rows_wanting(session: Session, wishes: Sequence[tuple[list[str], int]], most: int) -> list[Row[Any]]:
    """Waiting cells of projects with what they want."""
    wanted = or_(*((Cell.wants == wants) & (Run.project_id == project) for wants, project in wishes))
    return _rows(session, (Cell.state == WAITING) & wanted, most)


def wishes_of_waiting(session: Session) -> Sequence[tuple[list[str], int]]:
    """What waiting cells want, each with its project."""
    query = select(Cell.wants, Run.project_id).join(Run, Run.id == Cell.run_id)
    return [(wants, project) for wants, project in session.execute(query.where(Cell.state == WAITING).distinct())]


def plans_of_runs(session: Session, runs: Collection[int]) -> Sequence[Run]:
    return session.scalars(select(Run).where(Run.id.in_(runs))).all() if runs else []


def _rows(session: Session, which: ColumnElement[bool], most: int) -> list[Row[Any]]:
    return list(
        session.execute(
            select(
                Cell.id,
                Cell.run_id,
                Cell.job,
                Cell.key,
                Cell.wants,
                Cell.state,
                Cell.ready,
                Cell.reason,
                Cell.predicted,
                Cell.at_once,
                Run.number,
                Run.event,
                Run.project_id,
                Project.name.label("project"),
                Attempt.created_at.label("began"),
                Attempt.runner,
            )
            .join(Run, Run.id == Cell.run_id)
            .join(Project, Project.id == Run.project_id)
            .outerjoin(Attempt, (Attempt.id == Cell.attempt_id) & (Cell.state == RUNNING))
            .where(which)
            .order_by(Cell.ready.desc(), Cell.rank, Cell.id)
            .limit(most)
        )
    )
