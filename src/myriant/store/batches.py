"""Questions about pull requests that are tested together."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.states import BatchState
from myriant.store.tables import Batch, Run


def next_batch_number(session: Session, project_id: int) -> int:
    """The caller holds the project's row."""
    return (session.scalar(select(func.max(Batch.number)).where(Batch.project_id == project_id)) or 0) + 1


def open_batches(session: Session) -> Sequence[int]:
    """Those that are being tested."""
    return session.scalars(select(Batch.id).where(Batch.state == BatchState.TESTING).order_by(Batch.id)).all()


def batch_numbered(session: Session, project_id: int, number: int) -> Batch | None:
    query = select(Batch).where(Batch.project_id == project_id, Batch.number == number)
    return session.scalar(query.with_for_update())


def batches_of(session: Session, project_id: int, most: int) -> Sequence[Batch]:
    """The newest first."""
    return session.scalars(
        select(Batch).where(Batch.project_id == project_id).order_by(Batch.number.desc()).limit(most)
    ).all()


def runs_of_batches(session: Session, batches: Sequence[int]) -> dict[int, list[Run]]:
    """By batch, its runs, the oldest first."""
    found: dict[int, list[Run]] = {}
    for run in session.scalars(select(Run).where(Run.batch_id.in_(batches)).order_by(Run.number)):
        found.setdefault(run.batch_id or 0, []).append(run)
    return found
