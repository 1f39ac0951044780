"""Questions about the minutes that attempts took."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime

from sqlalchemy import Date, case, cast, func, select
from sqlalchemy.orm import Session

from myriant.core.states import EventKind
from myriant.store.tables import Attempt, Cell, Run, Runner

CONTROLS = "control runs"


@dataclass(frozen=True, slots=True)
class Spent:
    """What attempts of one day, event and runner took."""

    day: date  # UTC
    event: str  # an event's, or CONTROLS
    runner: str
    minutes: float
    attempts: int


def spent_since(session: Session, project_id: int, since: datetime) -> list[Spent]:
    """By day, event and runner, the minutes of all attempts that ended since a time; what was taken over took none."""
    took = func.extract("epoch", Attempt.ended_at - func.coalesce(Attempt.started_at, Attempt.created_at))
    day = cast(func.timezone("UTC", Attempt.ended_at), Date)
    event = case((Attempt.number < 0, CONTROLS), else_=Run.event)
    query = (
        select(day, event, Attempt.runner, func.sum(func.greatest(took, 0)) / 60.0, func.count())
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Attempt.ended_at >= since, Run.event != EventKind.UPLOAD)
        .group_by(day, event, Attempt.runner)
    )
    return [Spent(d, str(e), runner, float(minutes), count) for d, e, runner, minutes, count in session.execute(query)]


def prices(session: Session) -> dict[str, tuple[str, float]]:
    """By runner, the class of its machine and what a minute of a slot costs."""
    return {name: (str(machine.get("class") or ""), price) for name, machine, price in _runners(session)}


def _runners(session: Session) -> Sequence[tuple[str, dict[str, str], float]]:
    return [(n, m, p) for n, m, p in session.execute(select(Runner.name, Runner.machine, Runner.price))]


def saved_since(session: Session, project_id: int, since: datetime) -> float:
    """Minutes that cells did not take, as predicted, because their content had an answer already."""
    query = (
        select(func.coalesce(func.sum(Cell.predicted), 0.0) / 60.0)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Run.created_at >= since, Cell.reused.is_not(None))
    )
    return float(session.scalar(query) or 0.0)
