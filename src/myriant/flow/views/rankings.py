"""Where effort would pay most on a branch: tests, kinds of trouble, and files, each by what it cost."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.gate.contexts import push_to
from myriant.core.results.titles import test_title
from myriant.core.states import State, Verdict, Why
from myriant.core.trends.rankings import counts_of_failures, risky_files, slow_tests, together
from myriant.core.written import counted
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.cells import cells_of
from myriant.store.history import durations_of
from myriant.store.rankings import Decided, decided_on, ends_of_cells, failing_in
from myriant.store.results import tests_numbered
from myriant.store.tables import Project
from myriant.store.trends import cell_totals

MOST_RUNS = 500
SHOWN = 12
LOOKED_AT = 30  # runs, for one whose cells ran
_SAID = {
    Why.TESTS: "tests failed",
    Why.STEP: "a step failed and no test says why",
    Why.REPORT: "a step crashed or was ended, or a report could not be used",
    Why.LOST: "the runner was lost",
    Why.MACHINE: "the runner's machine refused",
    Why.SECRET: "a secret was missing",
    Why.COMMIT: "the commit could not be read",
}


@dataclass(frozen=True, slots=True)
class FailingTest:
    test: int
    title: str
    job: str
    runs: int  # in which it failed
    held: int  # of those, that were held
    began: int  # how often it failed where the run before had it pass, or did not have it


@dataclass(frozen=True, slots=True)
class TestGroup:
    """Tests that failed in the very same runs: one of them tells as much as all."""

    titles: list[str]
    tests: int
    runs: int


@dataclass(frozen=True, slots=True)
class SlowTest:
    test: int
    title: str
    job: str
    seconds: float  # in all cells together
    gain: float  # what the run would be shorter without it


@dataclass(frozen=True, slots=True)
class Ending:
    said: str
    cells: int
    minutes: float


@dataclass(frozen=True, slots=True)
class RiskyFile:
    path: str
    broke: int
    changes: int
    low: float  # at least this share of its changes breaks, 95 % sure


@dataclass(frozen=True, slots=True)
class Rankings:
    said: str
    branch: str
    runs: int
    since: datetime | None
    failing: list[FailingTest]
    together: list[TestGroup]
    quiet: int  # tests with a result now that failed in none of the runs
    tests: int
    slow: list[SlowTest]
    longest: float | None  # seconds of the longest cell of the newest run
    run: int | None  # the newest run, that the slow tests are of
    endings: list[Ending]
    files: list[RiskyFile]
    broke: int  # pushes that broke what was clear
    pushes: int  # whose change is known


def rankings_of(site: Site, name: str, branch: str | None, most: int) -> Rankings:
    """Over the newest decided pushes to a branch. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        branch = branch or project.main_branch
        runs = decided_on(session, project.id, str(push_to(branch)), most)
        failing_by_run = failing_in(session, [r.id for r in runs])
        failing = [failing_by_run.get(r.id, set()) for r in runs]
        counts = counts_of_failures(failing, [r.verdict == Verdict.HELD for r in runs])
        groups = together(failing)[:SHOWN]
        newest, seconds, whole = _newest_that_ran(session, runs)
        slow = slow_tests(seconds, whole, SHOWN)
        present = _present(seconds)
        numbers = {c.test for c in counts[:SHOWN]} | {s.test for s in slow} | {t for g in groups for t in g.tests[:5]}
        told = tests_numbered(session, project.id, sorted(numbers))
        titles = {n: test_title(t.suite, t.klass, t.name) for n, t in told.items()}
        endings = [
            Ending(_SAID.get(Why(why), "no result that can be trusted" if state == State.VOID else "it failed"), n, m)
            for state, why, n, m in ends_of_cells(session, [r.id for r in runs])
        ]
        changes = _changes(site, project, runs)
    broke = sum(b for _, b in changes)
    quiet = len(present - {c.test for c in counts})
    return Rankings(
        _said(runs, branch, len(counts), quiet, len(present)),
        branch,
        len(runs),
        runs[0].at if runs else None,
        [
            FailingTest(
                c.test,
                titles.get(c.test, f"test {c.test}"),
                told[c.test].job if c.test in told else "",
                c.runs,
                c.held,
                c.began,
            )
            for c in counts[:SHOWN]
        ],
        [TestGroup([titles.get(t, f"test {t}") for t in g.tests[:5]], len(g.tests), g.runs) for g in groups],
        quiet,
        len(present),
        [
            SlowTest(
                s.test,
                titles.get(s.test, f"test {s.test}"),
                told[s.test].job if s.test in told else "",
                s.seconds,
                max(0.0, s.gain),
            )
            for s in slow
        ],
        max(whole.values(), default=None),
        newest.number if newest is not None else None,
        endings,
        [RiskyFile(f.path, f.broke, f.changes, f.low) for f in risky_files(changes, SHOWN)],
        broke,
        len(changes),
    )


_Key = tuple[str, str]


def _newest_that_ran(
    session: Session, runs: Sequence[Decided]
) -> tuple[Decided | None, dict[_Key, np.ndarray], dict[_Key, float]]:
    """The newest run of which a cell ran, not only taken over, with its seconds."""
    for run in reversed(runs[-LOOKED_AT:]):
        seconds, whole = _seconds(session, run)
        if seconds:
            return run, seconds, whole
    return None, {}, {}


def _seconds(session: Session, run: Decided) -> tuple[dict[_Key, np.ndarray], dict[_Key, float]]:
    """Seconds of each test and of each whole cell of a run, by cell."""
    whole = {(job, key): took for _, job, key, _, _, took, _ in cell_totals(session, [run.id])}
    attempts = {(c.job, c.key): c.attempt_id for c in cells_of(session, run.id) if c.attempt_id is not None}
    known = {name: attempt for name, attempt in attempts.items() if name in whole}
    taken = durations_of(session, list(known.values()))
    return {name: taken[attempt] for name, attempt in known.items()}, whole


def _present(seconds: Mapping[_Key, np.ndarray]) -> set[int]:
    """Tests with a duration in some cell."""
    return {int(n) for taken in seconds.values() for n in np.flatnonzero(~np.isnan(taken))}


def _changes(site: Site, project: Project, runs: Sequence[Decided]) -> list[tuple[list[str], bool]]:
    """The files that each push brought since the one before, and whether it broke what was clear.

    A push on top of what is held already is left out: what it broke cannot be told from what was broken.
    """
    if len(runs) < 2:
        return []
    try:
        listed = site.mirror(project).files_of_commits(runs[-1].commit, runs[0].commit, 5000)
    except GitError:
        return []
    place = {commit: i for i, (commit, _) in enumerate(listed)} | {runs[0].commit: len(listed)}
    found = []
    good = (Verdict.CLEAR, Verdict.EXEMPT)
    for before, run in itertools.pairwise(runs):
        first, last = place.get(run.commit), place.get(before.commit)
        if before.verdict not in good or first is None or last is None or not first < last:
            continue
        files = [path for _, paths in listed[first:last] for path in paths]
        new = sum(int(job.get("tests.new", 0)) for job in (run.jobs or {}).values())
        found.append((files, run.verdict == Verdict.HELD and new > 0))
    return found


def _said(runs: Sequence[Decided], branch: str, failed: int, quiet: int, tests: int) -> str:
    if not runs:
        return f"No push to {branch} was decided yet."
    held = sum(r.verdict == Verdict.HELD for r in runs)
    were = "was" if held == 1 else "were"
    words = f"Of the newest {counted(len(runs), 'push', 'pushes')} to {branch}, {held} {were} held"
    if not failed:
        return f"{words}; no test failed."
    never = f"; {quiet:,} of the newest run's {counted(tests, 'test')} never did" if tests else ""
    return f"{words}; {counted(failed, 'test')} failed in some of them{never}."
