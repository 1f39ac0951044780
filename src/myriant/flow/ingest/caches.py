"""Caches settle with their attempt: kept when it passed, forgotten when it did not."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.states import State
from myriant.flow.site import Site
from myriant.settings import settings
from myriant.store.caches import forget_caches_of, keep_caches_of, remove_caches, sizes_of_caches
from myriant.store.tables import Attempt


def settle_caches(site: Site, session: Session, attempt: Attempt) -> list[str]:
    """Keep what a passing attempt saved, forget what another did; blobs to remove once this is committed."""
    if attempt.state == State.PASSED:
        project = keep_caches_of(session, attempt.id)
        return _evict(session, project) if project is not None else []
    return forget_caches_of(session, attempt.id)


def _evict(session: Session, project: int) -> list[str]:
    """Forget the entries least recently used until the rest fits."""
    total, gone = 0, []
    for entry, size, blob in sizes_of_caches(session, project):
        total += size
        if total > settings().most_cache_bytes:
            gone.append((entry, blob))
    if gone:
        remove_caches(session, [e for e, _ in gone])
    return [blob for _, blob in gone]
