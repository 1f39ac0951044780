"""What browsers are told: numbered changes, and a bell for waiting runners."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.store.tables import Change

CHANGES = "myriant_change"
CELLS = "myriant_cells"
_REPLAY_SLACK = 100  # ids are given before commit, so a lower one may become visible later


def tell(session: Session, kind: str, project: str | None = None, run: int | None = None) -> None:
    """Record a change; listeners hear of its id when the transaction commits."""
    change = Change(kind=kind, project=project, run=run)
    session.add(change)
    session.flush()
    session.execute(select(func.pg_notify(CHANGES, str(change.id))))


def ring_runners(session: Session) -> None:
    """Wake the runners that wait for a cell."""
    session.execute(select(func.pg_notify(CELLS, "")))


def changes_after(session: Session, last: int, limit: int = 500) -> list[Change]:
    """Changes since id `last`, a few earlier ones again for certainty; readers treat them as hints."""
    query = select(Change).where(Change.id > last - _REPLAY_SLACK).order_by(Change.id.desc()).limit(limit)
    return list(reversed(session.scalars(query).all()))


def changes_by_id(session: Session, ids: list[int]) -> list[Change]:
    return list(session.scalars(select(Change).where(Change.id.in_(ids)).order_by(Change.id)))
