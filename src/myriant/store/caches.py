"""Questions about caches."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.store.tables import CacheEntry


def cache_entries(
    session: Session, project_id: int, scopes: Sequence[str], job: str, name: str
) -> Sequence[CacheEntry]:
    """Kept entries of a cache in some scopes, the newest first."""
    return session.scalars(
        select(CacheEntry)
        .where(
            CacheEntry.project_id == project_id,
            CacheEntry.scope.in_(scopes),
            CacheEntry.kept,
            CacheEntry.job == job,
            CacheEntry.name == name,
        )
        .order_by(CacheEntry.created_at.desc())
        .limit(200)
    ).all()


def take_in_cache(session: Session, values: Mapping[str, Any]) -> bool:
    """Keep an entry for now; false when another attempt has saved the same already."""
    mine = session.scalar(
        insert(CacheEntry)
        .values(**values)
        .on_conflict_do_update(
            index_elements=["project_id", "scope", "job", "name", "key"], set_=dict(values), where=~CacheEntry.kept
        )
        .returning(CacheEntry.id)
    )
    return mine is not None


def keep_caches_of(session: Session, attempt_id: int) -> int | None:
    """What an attempt saved is kept from now on; the project, None when it saved nothing."""
    mine = CacheEntry.attempt_id == attempt_id
    kept = update(CacheEntry).where(mine).values(kept=True, used_at=func.now()).returning(CacheEntry.project_id)
    return next(iter(session.scalars(kept)), None)


def forget_caches_of(session: Session, attempt_id: int) -> list[str]:
    """What an attempt saved is forgotten, unless it was kept before; the blobs."""
    gone = delete(CacheEntry).where(CacheEntry.attempt_id == attempt_id, ~CacheEntry.kept)
    return list(session.scalars(gone.returning(CacheEntry.blob)))


def sizes_of_caches(session: Session, project_id: int) -> Sequence[tuple[int, int, str]]:
    """Id, size and blob of a project's kept entries, the most lately used first."""
    query = select(CacheEntry.id, CacheEntry.size, CacheEntry.blob)
    query = query.where(CacheEntry.project_id == project_id, CacheEntry.kept)
    return session.execute(query.order_by(CacheEntry.used_at.desc(), CacheEntry.id.desc())).all()


def remove_caches(session: Session, entries: Sequence[int]) -> None:
    session.execute(delete(CacheEntry).where(CacheEntry.id.in_(entries)))


def caches_of_project(session: Session, project_id: int) -> Sequence[CacheEntry]:
    return session.scalars(
        select(CacheEntry)
        .where(CacheEntry.project_id == project_id, CacheEntry.kept)
        .order_by(CacheEntry.used_at.desc())
        .limit(500)
    ).all()


def take_caches(session: Session, project_id: int, entry: int | None) -> Sequence[CacheEntry]:
    """Remove one cache of a project, or all; they are given back for their blobs."""
    query = select(CacheEntry).where(CacheEntry.project_id == project_id)
    found = session.scalars(query.where(CacheEntry.id == entry) if entry is not None else query).all()
    for each in found:
        session.delete(each)
    return found
