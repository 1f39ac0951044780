"""Secrets of projects: set, listed without their values, removed, sealed with another key."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.flow.compare.grants import EVENTS
from myriant.flow.errors import BadInput, NotFound
from myriant.flow.sealing import opened, seal
from myriant.flow.site import CREDENTIAL, Site
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.projects import all_projects, project_named
from myriant.store.secrets import every_secret, secrets_of_project
from myriant.store.tables import Project, Secret

SHORTEST, LONGEST = 6, 64 * 1024


_NAME = re.compile(r"[A-Z][A-Z0-9_]{0,99}")


@dataclass(frozen=True, slots=True)
class SecretView:
    """A secret as anybody sees it: never its value."""

    name: str
    jobs: list[str]
    events: list[str]
    branches: list[str]
    set_by: str
    set_at: datetime
    used_at: datetime | None
    used_by: str
    readable: bool  # with the key that is in force


def set_secret(
    site: Site,
    project_name: str,
    name: str,
    value: str,
    who: Person,
    *,
    jobs: Sequence[str] = (),
    events: Sequence[str] = (),
    branches: Sequence[str] = (),
) -> None:
    """Keep a value, or put a new one in place of the old. Raises BadInput."""
    if not _NAME.fullmatch(name) or name.startswith("MYRIANT") or name in ("PATH", "HOME", "CI"):
        raise BadInput(f"{name[:80]} is no name for a secret", "capitals, digits and _, such as TIDE_API_KEY")
    if len(value.strip()) < SHORTEST:
        raise BadInput(
            f"a secret has at least {SHORTEST} characters: a shorter one cannot be masked in logs",
            "choose a longer one",
        )
    if len(value.encode("utf-8", "surrogatepass")) > LONGEST or "\0" in value:
        raise BadInput(
            f"a secret is text of at most {LONGEST:,} bytes without zero bytes", "keep large files elsewhere"
        )
    unknown = [e for e in events if e not in EVENTS]
    if unknown:
        raise BadInput(f"there is no event {unknown[0][:40]}", f"known: {', '.join(EVENTS)}")
    with site.store.transaction() as session:
        project = _project(session, project_name)
        session.merge(
            Secret(
                project_id=project.id,
                name=name,
                sealed=seal(site.key(), project.id, name, value),
                jobs=list(jobs),
                events=list(events),
                branches=list(branches),
                set_by=who.name,
                set_at=func.now(),
            )
        )
        bounds = ", ".join([*jobs, *events, *branches])
        record(session, project.id, who.name, "secret", f"{name} was set{f' for {bounds}' if bounds else ''}")


def remove_secret(site: Site, project_name: str, name: str, who: Person) -> None:
    with site.store.transaction() as session:
        project = _project(session, project_name)
        found = session.get(Secret, (project.id, name))
        if found is None:
            raise NotFound(f"there is no secret {name[:80]}")
        session.delete(found)
        record(session, project.id, who.name, "secret", f"{name} was removed")


def secrets_of(site: Site, project_name: str) -> list[SecretView]:
    with site.store.transaction() as session:
        project = _project(session, project_name)
        rows = secrets_of_project(session, project.id)
        return [
            SecretView(
                s.name,
                s.jobs,
                s.events,
                s.branches,
                s.set_by,
                s.set_at,
                s.used_at,
                s.used_by,
                opened(site.key(), s.project_id, s.name, s.sealed) is not None,
            )
            for s in rows
        ]


def rotate_key(site: Site, new: Path) -> int:
    """Seal every secret anew with the key in `new`; how many. The caller puts that key in force afterwards."""
    with site.store.transaction() as session:
        found, old, key = every_secret(session), site.key(), new.read_bytes()
        for secret in found:
            value = opened(old, secret.project_id, secret.name, secret.sealed)
            if value is not None:
                secret.sealed = seal(key, secret.project_id, secret.name, value)
        projects = [p for p in all_projects(session) if p.credential is not None]
        for project in projects:
            value = opened(old, project.id, CREDENTIAL, project.credential or b"")
            if value is not None:
                project.credential = seal(key, project.id, CREDENTIAL, value)
        return len(found) + len(projects)


def _project(session: Session, name: str) -> Project:
    project = project_named(session, name)
    if project is None:
        raise NotFound(f"there is no project {name!r}")
    return project
