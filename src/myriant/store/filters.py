"""Filters that a project's people keep."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.store.tables import KeptFilter


def filters_of_project(session: Session, project_id: int) -> Sequence[KeptFilter]:
    """All of them, by page and name."""
    query = select(KeptFilter).where(KeptFilter.project_id == project_id)
    return session.scalars(query.order_by(KeptFilter.page, KeptFilter.name)).all()


def filter_named(session: Session, project_id: int, page: str, name: str) -> KeptFilter | None:
    query = select(KeptFilter).where(KeptFilter.project_id == project_id, KeptFilter.page == page)
    return session.scalar(query.where(KeptFilter.name == name))
