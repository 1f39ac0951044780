"""Projects in one line each."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.flow.ask.lines import RunLine, run_line
from myriant.flow.ask.strip import on_ref
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.tables import Project, Run


@dataclass(frozen=True, slots=True)
class ProjectLine:
    name: str
    description: str
    address: str
    main_branch: str
    hooked: bool
    looked_at: datetime | None
    trouble: str | None
    newest: RunLine | None


def project_lines(site: Site) -> list[ProjectLine]:
    with site.store.transaction() as session:
        return [line_of(session, p) for p in session.scalars(select(Project).order_by(Project.name))]


def project_line(site: Site, name: str) -> ProjectLine:
    with site.store.transaction() as session:
        return line_of(session, the_project(session, name))


def project_id(site: Site, name: str) -> int:
    with site.store.transaction() as session:
        return the_project(session, name).id


def line_of(session: Session, p: Project) -> ProjectLine:
    newest = session.scalar(
        select(Run)
        .where(Run.project_id == p.id, on_ref(p.main_branch))
        .order_by(Run.depth.desc(), Run.number.desc())
        .limit(1)
    )
    return ProjectLine(
        p.name,
        p.description,
        p.address,
        p.main_branch,
        p.hooked,
        p.looked_at,
        p.trouble,
        run_line(newest) if newest else None,
    )
