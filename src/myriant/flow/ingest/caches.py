"""Caches settle with their attempt: kept when it passed, forgotten when it did not."""

from __future__ import annotations

import os

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from myriant.flow.site import Site
from myriant.store.tables import Attempt, CacheEntry


def _most_kept() -> int:
    return int(os.environ.get("MYRIANT_MOST_CACHE_BYTES", 10 << 30))


def settle_caches(site: Site, session: Session, attempt: Attempt) -> list[str]:
    """Keep what a passing attempt saved, forget what another did; blobs to remove once this is committed."""
    mine = CacheEntry.attempt_id == attempt.id
    if attempt.state == "passed":
        session.execute(update(CacheEntry).where(mine).values(kept=True, used_at=func.now()))
        project = session.scalar(select(CacheEntry.project_id).where(mine).limit(1))
        return _evict(session, project) if project is not None else []
    gone = session.scalars(delete(CacheEntry).where(mine, ~CacheEntry.kept).returning(CacheEntry.blob)).all()
    return list(gone)


def _evict(session: Session, project: int) -> list[str]:
    """Forget the entries least recently used until the rest fits."""
    rows = session.execute(
        select(CacheEntry.id, CacheEntry.size, CacheEntry.blob)
        .where(CacheEntry.project_id == project, CacheEntry.kept)
        .order_by(CacheEntry.used_at.desc(), CacheEntry.id.desc())
    ).all()
    total, gone = 0, []
    for entry, size, blob in rows:
        total += size
        if total > _most_kept():
            gone.append((entry, blob))
    if gone:
        session.execute(delete(CacheEntry).where(CacheEntry.id.in_([e for e, _ in gone])))
    return [blob for _, blob in gone]
