"""Questions about results that are being sent from elsewhere."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import delete, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.store.records import SendingTold
from myriant.store.tables import Sending


def begin_sending(session: Session, sending: str, project_id: int, told: SendingTold) -> None:
    """Keep what is to be sent; one that has begun stays as it is."""
    values = {"id": sending, "project_id": project_id, "told": told}
    session.execute(insert(Sending).values(values).on_conflict_do_nothing())


def take_unfinished_sendings(session: Session, before: datetime, most: int = 100) -> Sequence[Sending]:
    """Remove sendings that nobody has gone on with since a time; they are given back for their pieces."""
    old = session.scalars(select(Sending).where(Sending.at < before, Sending.run.is_(None)).limit(most)).all()
    session.execute(delete(Sending).where(Sending.id.in_([s.id for s in old])))
    return old


def sent_for_run(session: Session, project_id: int, number: int) -> list[SendingTold]:
    """What was sent and became cells of a run, the oldest first."""
    query = select(Sending.told).where(Sending.project_id == project_id, Sending.run == number)
    return list(session.scalars(query.order_by(Sending.at)))
