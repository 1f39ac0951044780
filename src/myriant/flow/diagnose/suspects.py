"""Likely changes of a finding: what is different since it last passed, ranked."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.coverage.model import FileCoverage
from myriant.core.diagnosis.frames import frames_of, is_test_file
from myriant.core.diagnosis.suspects import Failure, Touched, rank
from myriant.core.results.model import Outcome
from myriant.flow.diagnose.machine import Differing, machine_difference
from myriant.flow.diagnose.search import failing_cells
from myriant.flow.errors import NotFound
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror, functions_in, idle_in
from myriant.store.attempts import workspaces_of
from myriant.store.coverage import coverage_files_of_attempts
from myriant.store.history import moves_of, numbers_through
from myriant.store.results import all_not_passed, history_of_test
from myriant.store.runs import newest_with_cell
from myriant.store.tables import Cell, Project, Run

MOST_COMMITS = 50
MOST_FILES = 100  # of a commit that is looked at line by line
PAST_COMMITS = 60
MOST_ASKED = 20  # runs that are asked whether they are on the way here


@dataclass(frozen=True, slots=True)
class SuspectView:
    commit: str
    title: str
    author: str
    at: datetime | None
    score: float
    because: list[str]


@dataclass(frozen=True, slots=True)
class Changed:
    """What changed between the last run in which a test passed in a cell, and this one."""

    job: str
    key: str
    last_passed: int | None  # the run
    commits: list[SuspectView]  # most likely first
    more: int
    machine: list[Differing]  # runtimes, packages and machine that differ


def changes_since(site: Site, name: str, number: int, test: int, finding: str = "") -> Changed:
    """Commits, runtimes, packages and machine changed since a test last passed, in the first cell where it fails now;
    by a finding's cause, where it is named.

    Raises NotFound.
    """
    with site.store.view() as session:
        project = the_project(session, name)
        run = the_run(session, project, number)
        cell, attempt = _first_failed(session, run, test, finding)
        rows = [r for r in all_not_passed(session, project.id, [attempt]) if r.number == test]
        if not rows:
            raise NotFound("this test did not fail in this run")
        shown = rows[0]
        roots = workspaces_of(session, [attempt])[attempt]
        covered = coverage_files_of_attempts(session, [attempt]).get(attempt, {})
        last = _last_passed(site.mirror(project), session, project, run, cell, test)
    frames = frames_of(shown.detail or shown.message, roots)
    named = [shown.extra.get("file", ""), *(f.file for f in frames if f.own and f.of_test)]
    mirror, commit = site.mirror(project), run.tested or run.commit
    guessed = _files_of_class(mirror, commit, shown.klass or shown.suite)
    tests = list(dict.fromkeys(filter(None, [*named, *guessed])))
    before, passed = (last[0].commit, last[1]) if last is not None else (None, None)
    files = [t for t in tests if is_test_file(t) or "/" in t]
    together = _together(mirror, commit, [t for t in files if is_test_file(t)])
    failure = Failure(frames, files, f"{shown.message}\n{shown.detail}", (), together)
    commits, more = _commits(mirror, before, commit, failure, covered)
    told = machine_difference(site, attempt, passed) if passed is not None else None
    return Changed(
        cell.job, cell.key, last[0].number if last else None, commits, more, told.differing if told is not None else []
    )


def _first_failed(session: Session, run: Run, test: int, finding: str) -> tuple[Cell, int]:
    rows = failing_cells(session, run, test, finding)
    if not rows:
        raise NotFound("this test did not fail in this run")
    return min(rows, key=lambda row: row[0].position)


def _last_passed(
    mirror: Mirror, session: Session, project: Project, run: Run, cell: Cell, test: int
) -> tuple[Run, int] | None:
    """The newest earlier run on the way here in which the test passed in this cell, and its attempt there."""
    numbers = numbers_through(moves_of(session, project.id), test)
    passed = [
        p.run
        for n in numbers
        for p in history_of_test(session, project.id, n)
        if p.cell == cell.key and p.outcome is Outcome.PASSED and p.run < run.number
    ]
    if not passed:
        return None
    tested = run.tested or run.commit
    for other, attempt in newest_with_cell(session, run, passed, cell.job, cell.key, MOST_ASKED):
        with suppress(GitError):
            if other.commit == run.commit or mirror.is_ancestor(other.tested or other.commit, tested):
                return other, attempt
    return None


def _files_of_class(mirror: Mirror, commit: str, klass: str) -> list[str]:
    """Files of the repository that a class may lie in: `tests.test_tide.TestLow` in tests/test_tide.py."""
    parts = [p for p in klass.replace("/", ".").split(".") if p]
    if not parts or " " in klass:
        return []
    try:
        there = mirror.files(commit)
    except GitError:
        return []
    stems = {"/".join(parts[:size]) for size in range(1, len(parts) + 1)}
    return sorted((p for p in there if p.rpartition(".")[0] in stems), key=lambda p: (-p.count("/"), p))


def _together(mirror: Mirror, commit: str, tests: Sequence[str]) -> dict[str, tuple[int, int]]:
    """With which other files the test's files changed in the past: in how many of how many commits."""
    try:
        past = mirror.files_of_path(commit, tests, PAST_COMMITS) if tests else []
    except GitError:
        return {}
    kept = [files for files in past if len(files) <= MOST_FILES]  # what changes everything says nothing
    counts = Counter(f for files in kept for f in files if f not in tests)
    return {f: (times, len(kept)) for f, times in counts.items()}


def _commits(
    mirror: Mirror, before: str | None, commit: str, failure: Failure, covered: Mapping[str, FileCoverage]
) -> tuple[list[SuspectView], int]:
    try:
        if before is None or before == commit:
            return [], 0
        newest = mirror.commit(commit)
        between = [newest, *mirror.between(before, commit)]
        looked = between[:MOST_COMMITS]
        parents = [*(c.id for c in between[1 : len(looked) + 1]), before][: len(looked)]
        ranked = rank(_touched(mirror, [c.id for c in looked], parents, covered), failure)
        by_id = {c.id: c for c in looked}
        views = [
            SuspectView(
                s.commit, by_id[s.commit].title, by_id[s.commit].author, by_id[s.commit].at, s.score, list(s.because)
            )
            for s in ranked
        ]
        return views, len(between) - len(looked)
    except GitError:
        return [], 0


def _touched(
    mirror: Mirror, commits: Sequence[str], parents: Sequence[str], covered: Mapping[str, FileCoverage]
) -> list[Touched]:
    """What commits changed, the newest first. Whether a file's lines ran is known until another commit moved them."""
    found: list[Touched] = []
    moved: set[str] = set()
    for commit, parent in zip(commits, parents, strict=True):
        files = mirror.changed_files(parent, commit) or ()
        few = len(files) <= MOST_FILES
        ran: dict[str, bool] = {}
        for path, lines in mirror.changed_lines(parent, commit).items() if few and covered else ():
            told = covered.get(path)
            if told is None or path in moved:
                continue
            measured = np.isin(told.lines, list(lines))
            if measured.any():
                ran[path] = bool((told.hits[measured] > 0).any())
        moved |= set(files)
        shown = mirror.shown(parent, commit) if few else ""
        found.append(Touched(commit, files, functions_in(shown), ran, frozenset(idle_in(shown))))
    return found
