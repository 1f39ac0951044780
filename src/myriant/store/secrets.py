"""Questions about secrets."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.store.tables import Secret


def secrets_named(session: Session, project_id: int, names: Sequence[str], *, lock: bool = False) -> dict[str, Secret]:
    query = select(Secret).where(Secret.project_id == project_id, Secret.name.in_(names)).order_by(Secret.name)
    return {s.name: s for s in session.scalars(query.with_for_update() if lock else query)}


def secrets_of_project(session: Session, project_id: int) -> Sequence[Secret]:
    return session.scalars(select(Secret).where(Secret.project_id == project_id).order_by(Secret.name)).all()


def every_secret(session: Session) -> Sequence[Secret]:
    """All secrets of all projects, locked for this transaction."""
    return session.scalars(select(Secret).with_for_update()).all()
