"""Caches of a project are forgotten when a person says so."""

from __future__ import annotations

from sqlalchemy import select

from myriant.flow.site import Site
from myriant.store.tables import CacheEntry, Project


def forget_caches(site: Site, project_name: str, entry: int | None) -> int:
    """Forget one cache of a project, or all; how many."""
    with site.store.transaction() as session:
        query = (
            select(CacheEntry).join(Project, Project.id == CacheEntry.project_id).where(Project.name == project_name)
        )
        found = session.scalars(query.where(CacheEntry.id == entry) if entry is not None else query).all()
        for each in found:
            session.delete(each)
    for each in found:
        site.blobs.remove(each.blob)
    return len(found)
