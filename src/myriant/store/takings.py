"""Questions about causes that somebody took."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.store.tables import Cell, Failure, Run, Taking


def open_takings(session: Session, project_id: int) -> Sequence[Taking]:
    """Those in force, the newest first."""
    query = select(Taking).where(Taking.project_id == project_id, Taking.ended_at.is_(None))
    return session.scalars(query.order_by(Taking.id.desc())).all()


def all_open_takings(session: Session) -> Sequence[Taking]:
    return session.scalars(select(Taking).where(Taking.ended_at.is_(None)).order_by(Taking.id.desc())).all()


def failed_with(session: Session, project_id: int, run: int, signature: str) -> set[tuple[str, str, int]]:
    """Job, cell key and test of each result of a run that has a signature, in the newest attempts of its cells."""
    rows = session.execute(
        select(Cell.job, Cell.key, Failure.test)
        .join(Failure, Failure.attempt_id == Cell.attempt_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Run.number == run, Failure.signature == signature)
    )
    return set(rows)
