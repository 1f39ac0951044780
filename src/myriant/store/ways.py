"""Questions about where outcomes are told, and what was told there."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.results.model import Outcome
from myriant.core.states import DECIDED, DeliveryState
from myriant.store.tables import Cell, Delivery, Failure, Run, Way

TOLD = (DeliveryState.SENT, DeliveryState.KEPT)  # it arrived, or is kept until those whom it is for want to hear
ATTENTION = "attention"  # the context of what needs a person beside a verdict


def ways_of(session: Session, project_id: int) -> Sequence[Way]:
    return session.scalars(select(Way).where(Way.project_id == project_id).order_by(Way.name)).all()


def way_named(session: Session, project_id: int, name: str) -> Way | None:
    return session.scalar(select(Way).where(Way.project_id == project_id, Way.name == name))


def mornings_due(session: Session, now: datetime) -> Sequence[Way]:
    """Ways on which a morning page is to be told now, locked."""
    return session.scalars(select(Way).where(Way.on, Way.morning_at <= now).with_for_update(skip_locked=True)).all()


def add_delivery(session: Session, **row: Any) -> int | None:
    """Keep what is to be told, once for its way and subject; its number, None when that was told already."""
    made: int | None = session.scalar(
        insert(Delivery).values({"state": DeliveryState.WAITING, **row}).on_conflict_do_nothing().returning(Delivery.id)
    )
    return made


def is_told(session: Session, way_id: int, subject: str) -> bool:
    """Whether something was told on a way, or is to be."""
    query = select(Delivery.id).where(Delivery.way_id == way_id, Delivery.subject == subject)
    return session.scalar(query) is not None


def next_waiting(session: Session, way_id: int, now: datetime) -> Delivery | None:
    """The oldest that waits on a way, locked: things are told in the order in which they came about.

    Nobody waits for what authors alone are told once a control run has ended.
    """
    query = (
        select(Delivery).where(Delivery.way_id == way_id, Delivery.state == DeliveryState.WAITING).order_by(Delivery.id)
    )
    query = query.where(~Delivery.subject.endswith("\nauthors") | (Delivery.next_at <= now))
    return session.scalars(query.limit(1).with_for_update()).first()


def oldest_waiting(session: Session, project_id: int) -> dict[int, int]:
    """By way, the number of the oldest delivery that waits there."""
    query = select(Delivery.way_id, func.min(Delivery.id)).where(Delivery.state == DeliveryState.WAITING)
    return dict(session.execute(query.where(Delivery.project_id == project_id).group_by(Delivery.way_id)).all())


def ways_that_are_due(session: Session, now: datetime) -> list[int]:
    """Ways whose oldest waiting delivery is to be tried now."""
    oldest = select(func.min(Delivery.id)).where(Delivery.state == DeliveryState.WAITING).group_by(Delivery.way_id)
    query = select(Delivery.way_id).where(Delivery.id.in_(oldest), Delivery.next_at <= now)
    return list(session.scalars(query))


def deliveries_of(session: Session, project_id: int, run: int | None, most: int) -> Sequence[tuple[Delivery, Way]]:
    """What was told, newest first: of one run, or of all."""
    query = select(Delivery, Way).join(Way, Way.id == Delivery.way_id)
    query = query.where(Delivery.project_id == project_id, Delivery.state != DeliveryState.UNWANTED)
    if run is not None:
        query = query.where(Delivery.run == run)
    return session.execute(query.order_by(Delivery.id.desc()).limit(most)).all()


def waiting_of_run(session: Session, way_id: int, run: int, but: int) -> Sequence[Delivery]:
    """What waits on a way of a run and was not tried yet, but for one, locked."""
    query = select(Delivery).where(Delivery.way_id == way_id, Delivery.run == run, Delivery.id != but)
    query = query.where(Delivery.state == DeliveryState.WAITING, Delivery.tries == 0)
    return session.scalars(query.order_by(Delivery.id).with_for_update()).all()


def last_told(session: Session, way_id: int, context: str, run: int | None) -> Delivery | None:
    """The outcome that was told last on a way of a context, or of one run in it."""
    query = select(Delivery).where(Delivery.way_id == way_id, Delivery.context == context)
    query = query.where(~Delivery.subject.endswith("\nreleased"))
    if run is not None:
        query = query.where(Delivery.run == run)
    return session.scalars(query.order_by(Delivery.id.desc()).limit(1)).first()


def receivers_since_clear(session: Session, way_id: int, context: str) -> list[str]:
    """Who was told by mail that a context is held, since it was clear last."""
    query = select(Delivery).where(Delivery.way_id == way_id, Delivery.context == context, Delivery.state.in_(TOLD))
    found: dict[str, None] = {}
    for told in session.scalars(query.order_by(Delivery.id.desc()).limit(200)):
        if told.told.news == "cleared":
            break
        found.update(dict.fromkeys(told.told.receivers or ()))
    return list(found)


def is_newest_decided(session: Session, run: Run) -> bool:
    query = select(Run.id).where(Run.project_id == run.project_id, Run.context == run.context, Run.number > run.number)
    return session.scalar(query.where(Run.verdict.in_(DECIDED)).limit(1)) is None


def failing_signatures(session: Session, run_id: int, most: int = 20_000) -> frozenset[str]:
    """Signatures of what failed or errored in the newest attempts of a run's binding cells."""
    query = (
        select(Failure.signature)
        .join(Cell, Cell.attempt_id == Failure.attempt_id)
        .where(Cell.run_id == run_id, Cell.advisory.is_(False), Failure.signature != "")
        .where(Failure.outcome.in_((Outcome.FAILED, Outcome.ERRORED)))
        .distinct()
        .limit(most)
    )
    return frozenset(session.scalars(query))
