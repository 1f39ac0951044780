"""Retention: logs and files of older runs go, in small pieces; totals, results and verdicts are kept for ever."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from myriant.flow.errors import BadInput
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.coverage import forget_loose_vectors
from myriant.store.retention import freed, projects_that_prune, prune
from myriant.store.sizes import keep_sizes

LEAST_DAYS, MOST_DAYS = 1, 3650
AT_ONCE = 50  # attempts in one piece
MOST_VECTORS = 20_000


@dataclass(frozen=True, slots=True)
class Freed:
    """What keeping for so many days lets go of now."""

    attempts: int
    log_bytes: int
    file_bytes: int


def would_free(site: Site, name: str, days: int) -> Freed:
    """What would go at once, without letting it go."""
    before = datetime.now(UTC) - timedelta(days=_checked(days))
    with site.store.transaction() as session:
        return Freed(*freed(session, the_project(session, name).id, before))


def keep_for(site: Site, name: str, days: int | None, who: Person) -> None:
    """Keep logs and files of a project's runs for so many days; None: for ever."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        project.keep_days = _checked(days) if days is not None else None
        said = f"for {days} days" if days is not None else "for ever"
        record(session, project.id, who.name, "retention", f"logs and files are kept {said}")


def _checked(days: int) -> int:
    if not LEAST_DAYS <= days <= MOST_DAYS:
        raise BadInput(f"{days} days cannot be kept to", f"name {LEAST_DAYS} to {MOST_DAYS} days, or keep it for ever")
    return days


def forget_loose(site: Site) -> int:
    """Remove coverage that no run has any more; how many vectors."""
    with site.store.transaction() as session:
        return forget_loose_vectors(session, MOST_VECTORS)


def keep_todays_sizes(site: Site, now: datetime | None = None) -> bool:
    """Keep what each part of the database weighs today, once; whether that was still to do."""
    with site.store.transaction() as session:
        return keep_sizes(session, (now or datetime.now(UTC)).date())


def prune_a_little(site: Site, now: datetime) -> int:
    """Let go of what has been kept long enough, a piece of each project; how many blobs went."""
    gone: list[str] = []
    with site.store.transaction() as session:
        for project, days in projects_that_prune(session):
            gone += prune(session, project, now - timedelta(days=days), AT_ONCE)
    for blob in gone:
        site.blobs.remove(blob)
    return len(gone)
