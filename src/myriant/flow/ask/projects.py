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
from myriant.store.runs import newest_runs_on_main, run_numbered, runs_on, sizes_of_project
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
    paused: bool
    tracker: str  # where notes on causes lead: https://…/{id}
    pull_refs: str  # pattern of refs that are pull requests
    pull_target: str
    keep_days: int | None
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


def is_paused(site: Site, name: str) -> bool:
    with site.store.transaction() as session:
        return the_project(session, name).paused


@dataclass(frozen=True, slots=True)
class Kept:
    """What is kept about a project, and goes with it."""

    runs: int
    attempts: int
    results: int  # attempts whose tests are kept
    log_bytes: int
    file_bytes: int  # of reports and artifacts


def kept_of(site: Site, name: str) -> Kept:
    with site.store.transaction() as session:
        return Kept(*sizes_of_project(session, the_project(session, name).id))


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
    return ProjectLine(
        p.name,
        p.description,
        p.address,
        p.main_branch,
        p.hooked,
        p.looked_at,
        p.trouble,
        p.paused,
        p.tracker,
        p.pull_refs,
        p.pull_target,
        p.keep_days,
        line,
    )
