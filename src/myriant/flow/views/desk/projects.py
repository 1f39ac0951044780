"""Projects in one line each."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.gate.word import Word
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.views.lines import RunLine, run_line, so_far
from myriant.flow.views.words import words_of, words_of_many
from myriant.store.projects import all_projects
from myriant.store.runs import newest_runs_on_main, runs_by_number, runs_on, sizes_of_project
from myriant.store.tables import Project, Run


@dataclass(frozen=True, slots=True)
class DrilledView:
    passed: bool
    said: str
    at: datetime


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
    pull_strangers: bool  # they are of strangers
    pull_target: str
    pull_refresh: str  # "at once", or a time: tested anew when their target has moved
    stranger_minutes: int | None  # of runners, that a stranger's may take
    drill_words: str  # when its gate is tried by itself
    drill_at: datetime | None
    drilled: DrilledView | None  # the last time that it was tried by itself
    keep_days: int | None
    newest: RunLine | None


def project_lines(site: Site) -> list[ProjectLine]:
    with site.store.view() as session:
        projects = all_projects(session)
        newest = newest_runs_on_main(session, 1)
        words = words_of_many(session, {p.id: {r.commit for r in newest.get(p.id, ())} for p in projects})
        return lines_of(session, projects, newest, words)


def project_line(site: Site, name: str) -> ProjectLine:
    with site.store.view() as session:
        found = the_project(session, name)
        newest = runs_on(session, found.id, found.main_branch, 1)
        words = {found.id: words_of(session, found.id, {r.commit for r in newest})}
        return lines_of(session, [found], {found.id: newest}, words)[0]


def project_id(site: Site, name: str) -> int:
    with site.store.view() as session:
        return the_project(session, name).id


def is_paused(site: Site, name: str) -> bool:
    with site.store.view() as session:
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
    with site.store.view() as session:
        return Kept(*sizes_of_project(session, the_project(session, name).id))


def lines_of(
    session: Session,
    projects: Sequence[Project],
    newest: Mapping[int, Sequence[Run]],
    words: Mapping[int, Mapping[str, Word]],
) -> list[ProjectLine]:
    """Each project with what is said of the newest commit of its main branch."""
    saying: dict[int, tuple[Word | None, int]] = {}
    for p in projects:
        if mine := newest.get(p.id, ()):
            word = words[p.id].get(mine[0].commit)
            saying[p.id] = word, word.number if word is not None and word.number else mine[0].number
    loaded = {(r.project_id, r.number): r for runs in newest.values() for r in runs}
    loaded |= runs_by_number(session, {(p, n) for p, (_, n) in saying.items()} - set(loaded))
    told = {p: loaded.get((p, number), newest[p][0]) for p, (_, number) in saying.items()}
    far = so_far(session, told.values())
    lines = {id_: run_line(row, saying[id_][0], far.get(row.id, "")) for id_, row in told.items()}
    return [
        ProjectLine(
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
            p.pull_strangers,
            p.pull_target,
            p.pull_refresh,
            p.stranger_minutes,
            p.drill_words,
            p.drill_at,
            DrilledView(p.drilled["passed"], p.drilled["said"], p.drilled_at) if p.drilled_at is not None else None,
            p.keep_days,
            lines.get(p.id),
        )
        for p in projects
    ]
