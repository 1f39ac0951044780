"""Projects in one line each."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.gate.word import Word
from myriant.flow.ask.lines import RunLine, run_line
from myriant.flow.ask.words import words_of
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.projects import all_projects
from myriant.store.runs import newest_runs_on_main, run_numbered, runs_on
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
        newest = newest_runs_on_main(session, 1)
        return [line_of(session, p, newest.get(p.id, [])) for p in all_projects(session)]


def project_line(site: Site, name: str) -> ProjectLine:
    with site.store.transaction() as session:
        found = the_project(session, name)
        return line_of(session, found, runs_on(session, found.id, found.main_branch, 1))


def project_id(site: Site, name: str) -> int:
    with site.store.transaction() as session:
        return the_project(session, name).id


def line_of(
    session: Session, p: Project, newest: Sequence[Run], words: Mapping[str, Word] | None = None
) -> ProjectLine:
    """A project with what is said of the newest commit of its main branch."""
    line = None
    if newest:
        commit = newest[0].commit
        word = (words if words is not None else words_of(session, p.id, {commit})).get(commit)
        saying = next((r for r in newest if word is not None and r.number == word.number), None)
        if saying is None and word is not None and word.number:
            saying = run_numbered(session, p.id, word.number)
        line = run_line(saying or newest[0], word)
    return ProjectLine(p.name, p.description, p.address, p.main_branch, p.hooked, p.looked_at, p.trouble, line)
