"""The audit record: what people did that changes what is asked or told."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.store.tables import Audit


def record(session: Session, project_id: int | None, by: str, what: str, said: str) -> None:
    session.add(Audit(project_id=project_id, by=by, what=what, said=said[:4000]))


def audit_of(session: Session, project_id: int, before: int | None, most: int) -> Sequence[Audit]:
    """The newest entries of a project, those before the entry `before` if given."""
    query = select(Audit).where(Audit.project_id == project_id)
    if before is not None:
        query = query.where(Audit.id < before)
    return session.scalars(query.order_by(Audit.id.desc()).limit(most)).all()
