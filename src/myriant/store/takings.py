"""Questions about causes that somebody took."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.store.tables import Failure, Taking


def open_takings(session: Session, project_id: int) -> Sequence[Taking]:
    """Those in force, the newest first."""
    query = select(Taking).where(Taking.project_id == project_id, Taking.ended_at.is_(None))
    return session.scalars(query.order_by(Taking.id.desc())).all()


def all_open_takings(session: Session) -> Sequence[Taking]:
    return session.scalars(select(Taking).where(Taking.ended_at.is_(None)).order_by(Taking.id.desc())).all()


def signatures_in(session: Session, attempts: Sequence[int], wanted: Sequence[str]) -> set[str]:
    """Which of these signatures some result of the attempts has."""
    query = select(Failure.signature).where(Failure.attempt_id.in_(attempts), Failure.signature.in_(wanted))
    return {s for s in session.scalars(query.distinct()) if s}
