"""The audit record of a project."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.audit import audit_of


@dataclass(frozen=True, slots=True)
class AuditLine:
    """What a person did that changes what is asked or told."""

    id: int
    at: datetime
    by: str
    what: str
    said: str


def audit_lines(site: Site, name: str, before: int | None, most: int) -> list[AuditLine]:
    """The newest entries first."""
    with site.store.view() as session:
        project = the_project(session, name)
        return [AuditLine(a.id, a.at, a.by, a.what, a.said) for a in audit_of(session, project.id, before, most)]
