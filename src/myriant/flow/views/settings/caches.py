"""The caches that a project keeps."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.caches import caches_of_project


@dataclass(frozen=True, slots=True)
class CacheLine:
    """A cache that is kept."""

    id: int
    name: str
    job: str
    scope: str
    size: int
    uses: int
    created_at: datetime
    used_at: datetime
    runtimes: dict[str, str]


def caches_of(site: Site, project_name: str) -> list[CacheLine]:
    """The caches that a project keeps, the latest used first."""
    with site.store.view() as session:
        rows = caches_of_project(session, the_project(session, project_name).id)
        return [
            CacheLine(
                e.id, e.name, e.job, e.scope, e.size, e.uses, e.created_at, e.used_at, e.parts.get("runtimes", {})
            )
            for e in rows
        ]
