"""A test's own page: its past, its failures, its durations."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.diagnosis.levels import level_changes
from myriant.core.results.model import Outcome
from myriant.core.results.titles import test_title
from myriant.flow.diagnose.flakes import FlakeView, flake_of
from myriant.flow.errors import NotFound
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.views.lines import RunLine, run_line
from myriant.store.history import failures_of_tests, moves_of, numbers_through
from myriant.store.results import Past, history_of_test, tests_numbered
from myriant.store.runs import runs_numbered
from myriant.store.tables import Project

_HISTORY = 300


@dataclass(frozen=True, slots=True)
class PastResult:
    run: int
    cell: str
    outcome: str
    seconds: float | None


@dataclass(frozen=True, slots=True)
class FailureKind:
    """Failures of a test with one signature."""

    signature: str
    message: str
    runs: int
    last: int


@dataclass(frozen=True, slots=True)
class LevelChange:
    """The median duration of a test changed with a run."""

    run: int
    before: float
    now: float


@dataclass(frozen=True, slots=True)
class EarlierName:
    title: str
    run: int
    because: str


@dataclass(frozen=True, slots=True)
class TestView:
    test: int
    title: str
    job: str
    kind: str
    suite: str
    klass: str
    name: str
    earlier: list[EarlierName]
    runs: list[RunLine]  # that have a result of it, oldest first
    cells: list[str]
    results: list[PastResult]
    failures: list[FailureKind]
    changes: list[LevelChange]
    flake: FlakeView


def test_view(site: Site, name: str, number: int) -> TestView:
    """One test over the newest runs, under every name it had. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        moves = moves_of(session, project.id)
        chain = numbers_through(moves, number)
        titles = tests_numbered(session, project.id, chain)
        test = titles.get(number)
        if test is None:
            raise NotFound(f"{name} has no test {number}")
        past = [p for n in chain for p in history_of_test(session, project.id, n, _HISTORY)]
        past.sort(key=lambda p: p.run)
        numbers = runs_numbered(session, project.id, {p.run for p in past}).values()
        rows = sorted(numbers, key=lambda r: (r.depth, r.number))
        earlier = [
            EarlierName(test_title(t.suite, t.klass, t.name), moves[now].run, moves[now].because)
            for now, before in itertools.pairwise(chain)
            for t in (titles[before],)
        ]
        results = [
            PastResult(p.run, p.cell, p.outcome.name.lower(), p.seconds if p.seconds == p.seconds else None)
            for p in past
        ]
        return TestView(
            number,
            test_title(test.suite, test.klass, test.name),
            test.job,
            test.kind,
            test.suite,
            test.klass,
            test.name,
            earlier,
            [run_line(r) for r in rows],
            list(dict.fromkeys(p.cell for p in past)),
            results,
            _failures(session, project, chain),
            _changes(past, [r.number for r in rows]),
            flake_of(session, project, number),
        )


def _failures(session: Session, project: Project, numbers: Sequence[int]) -> list[FailureKind]:
    rows = failures_of_tests(session, project.id, numbers)
    found: dict[str, tuple[str, set[int], int]] = {}
    for signature, message, run in rows:
        _, runs, _ = found.setdefault(signature or message[:200], (message, set(), run))
        runs.add(run)
    return [FailureKind(s, message[:1000], len(runs), last) for s, (message, runs, last) in found.items()]


def _changes(past: Sequence[Past], order: Sequence[int]) -> list[LevelChange]:
    """Change points of the median over cells, in the order of ancestry."""
    by_run: dict[int, list[float]] = {}
    for p in past:
        if p.seconds == p.seconds and p.outcome in (Outcome.PASSED, Outcome.FLAKY):
            by_run.setdefault(p.run, []).append(p.seconds)
    runs = [r for r in order if r in by_run]
    series = [float(np.median(by_run[r])) for r in runs]
    return [LevelChange(runs[c.at], c.before, c.now) for c in level_changes(series) if max(c.before, c.now) >= 0.01]
