"""What addresses name: projects and runs."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.flow.errors import NotFound
from myriant.store.projects import project_named
from myriant.store.runs import run_numbered
from myriant.store.tables import Project, Run


def the_project(session: Session, name: str) -> Project:
    found = project_named(session, name)
    if found is None:
        raise NotFound(f"there is no project {name!r}", "the list of projects is at /")
    return found


def the_run(session: Session, found: Project, number: int) -> Run:
    row = run_numbered(session, found.id, number)
    if row is None:
        raise NotFound(f"{found.name} has no run #{number}")
    return row
