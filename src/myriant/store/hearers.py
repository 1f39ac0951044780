"""Questions about how people want to hear, and what is kept for them until then."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime

from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.states import DeliveryState
from myriant.store.records import as_json
from myriant.store.tables import Delivery, Hearer, KeptNews, Way
from myriant.store.ways import ATTENTION, TOLD


def hearers_of(session: Session, project_id: int) -> Sequence[Hearer]:
    return session.scalars(select(Hearer).where(Hearer.project_id == project_id).order_by(Hearer.address)).all()


def hearer_with(session: Session, project_id: int, address: str) -> Hearer | None:
    return session.scalar(select(Hearer).where(Hearer.project_id == project_id, Hearer.address == address))


def told_elsewhere(session: Session, delivery: Delivery) -> set[str]:
    """Who is told the same news of the same run by mail on another way. Until this transaction ends no other way begins
    to tell it.
    """
    name = f"mail {delivery.project_id} {delivery.run}"
    session.execute(select(func.pg_advisory_xact_lock(func.hashtext(name))))
    query = select(as_json(Delivery.told)["receivers"]).join(Way, Way.id == Delivery.way_id)
    query = query.where(Delivery.project_id == delivery.project_id, Delivery.run == delivery.run, Way.kind == "mail")
    query = query.where(Delivery.context == delivery.context, Delivery.way_id != delivery.way_id)
    query = query.where(Delivery.state.in_(TOLD) | ((Delivery.state == DeliveryState.WAITING) & (Delivery.tries > 0)))
    if delivery.context == ATTENTION:  # of a run several things may need somebody
        query = query.where(Delivery.subject == delivery.subject)
    query = query.where(func.coalesce(as_json(Delivery.told)["news"].astext, "") == delivery.told.news, ~Way.always)
    return {address for told in session.scalars(query) for address in told or ()}


def kept_for(session: Session, delivery_id: int) -> set[str]:
    """For whom a piece of news is, or was, kept."""
    return set(session.scalars(select(KeptNews.address).where(KeptNews.delivery_id == delivery_id)))


def keep_news(session: Session, delivery: Delivery, later: Mapping[str, datetime]) -> None:
    rows = [
        {"project_id": delivery.project_id, "delivery_id": delivery.id, "address": address, "due_at": at}
        for address, at in later.items()
    ]
    if rows:
        session.execute(insert(KeptNews).values(rows).on_conflict_do_nothing())


def who_is_due(session: Session, now: datetime, most: int = 500) -> Sequence[tuple[int, str]]:
    """Projects and addresses that have news kept which is to be told now."""
    query = select(KeptNews.project_id, KeptNews.address).where(KeptNews.due_at <= now, KeptNews.told_in.is_(None))
    return session.execute(query.distinct().limit(most)).all()


def take_kept(session: Session, project_id: int, address: str, now: datetime) -> Sequence[tuple[KeptNews, Delivery]]:
    """What is kept for somebody and due, oldest first, locked; nothing where another takes it."""
    query = select(KeptNews, Delivery).join(Delivery, Delivery.id == KeptNews.delivery_id)
    query = query.where(KeptNews.project_id == project_id, KeptNews.address == address, KeptNews.told_in.is_(None))
    query = query.where(KeptNews.due_at <= now).order_by(KeptNews.delivery_id)
    return session.execute(query.with_for_update(of=KeptNews, skip_locked=True)).all()


def note_told(session: Session, kept: Iterable[int], delivery_id: int) -> None:
    session.execute(update(KeptNews).where(KeptNews.id.in_(list(kept))).values(told_in=delivery_id))


def forget_kept(session: Session, project_id: int, address: str) -> None:
    """Somebody wants to hear nothing: what is kept for them is not told."""
    mine = (KeptNews.project_id == project_id) & (KeptNews.address == address)
    session.execute(delete(KeptNews).where(mine, KeptNews.told_in.is_(None)))


def kept_counts(session: Session, project_id: int) -> dict[str, int]:
    """By address, how much is kept."""
    query = select(KeptNews.address, func.count()).where(KeptNews.project_id == project_id, KeptNews.told_in.is_(None))
    return dict(session.execute(query.group_by(KeptNews.address)).all())
