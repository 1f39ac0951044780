"""Caches of a project are forgotten when a person says so."""

from __future__ import annotations

from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.caches import take_caches


def forget_caches(site: Site, project_name: str, entry: int | None) -> int:
    """Forget one cache of a project, or all; how many."""
    with site.store.transaction() as session:
        found = take_caches(session, the_project(session, project_name).id, entry)
    for each in found:
        site.blobs.remove(each.blob)
    return len(found)
