"""Flaky tests of a project: the evidence, what they cost, who has quarantined them, and what is proposed."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.diagnosis.chance import Chance, flat, judged
from myriant.core.diagnosis.flaky import SURE
from myriant.core.results.model import Outcome
from myriant.core.results.titles import test_title
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.chance import (
    WithResult,
    attempts_with_result,
    did_pass,
    failed_in,
    outcomes_of_tests,
)
from myriant.store.history import begun_at, ended_quarantines, open_quarantines
from myriant.store.results import tests_numbered
from myriant.store.tables import Project, Quarantine, Test

RUNS = 100  # newest, that evidence is taken from


MOST_SHOWN = 50
LEAST_SURE = 0.05  # that a test is random, to be listed without other evidence


@dataclass(frozen=True, slots=True)
class QuarantineView:
    id: int
    test: int
    title: str
    reason: str
    owner: str
    by: str
    at: datetime
    until: datetime
    ended_at: datetime | None
    ended_why: str


@dataclass(frozen=True, slots=True)
class FlakeView:
    """Whether and how often a test fails by chance: a share of its results where and while it does, with its 90 %
    interval and the evidence.
    """

    test: int
    title: str
    job: str
    rate: float
    low: float
    high: float
    odd: int
    tries: int
    sure: float  # that it is random at all
    only: str  # where: a selector, a runner, hours of the day; empty for everywhere
    since: int | None  # the run from which on; None as far as is known
    over: bool  # it was random, and is no more
    retested: int  # odd outcomes within one attempt or over reruns
    controlled: int  # that a control run answered otherwise
    alone: int  # lone failures between passes of neighbouring commits
    minutes: float  # that repeating it has cost
    flaky: bool  # sure enough to be called so
    proposed: bool  # for quarantine
    quarantine: QuarantineView | None


@dataclass(frozen=True, slots=True)
class Flakes:
    runs: int
    tests: list[FlakeView]
    more: int  # tests with some evidence that are not listed
    ended: list[QuarantineView]  # quarantines that are over, the newest first


@dataclass(slots=True)
class _Evidence:
    retested: int = 0
    controlled: int = 0
    alone: int = 0
    again: int = 0  # times that it failed anew in one cell after it had passed again
    seconds: float = 0.0

    @property
    def odd(self) -> int:
        return self.retested + self.controlled + self.alone + self.again


def flakes_of(site: Site, name: str) -> Flakes:
    """Tests with evidence of flakiness over the newest runs, or in quarantine, the most costly first."""
    with site.store.view() as session:
        project = the_project(session, name)
        aside = {held.test: held for held in open_quarantines(session, project.id)}
        attempts = attempts_with_result(session, project.id, RUNS)
        evidence = _evidence(session, attempts)
        listed = sorted(evidence, key=lambda t: (t not in aside, -evidence[t].seconds, -evidence[t].odd, t))
        shown = [*(t for t in aside if t not in evidence), *listed][:MOST_SHOWN]
        more = len(set(evidence) | set(aside)) - len(shown)
        views = _views(session, project, shown, evidence, aside, attempts)
        told = [v for v in views if v.quarantine or v.sure >= LEAST_SURE or v.retested or v.controlled or v.alone]
        return Flakes(RUNS, told, more, _ended(session, project.id))


def flake_of(session: Session, project: Project, test: int) -> FlakeView:
    """One test's estimate, also without any evidence of flakiness."""
    aside = {held.test: held for held in open_quarantines(session, project.id)}
    attempts = attempts_with_result(session, project.id, RUNS)
    return _views(session, project, [test], _evidence(session, attempts, test), aside, attempts)[0]


def sure_of_chance(session: Session, project: Project, tests: Sequence[int]) -> set[int]:
    """Those of these tests that fail by chance, or did until a while ago, and all that a person has set aside."""
    chances = chances_of(session, tests, attempts_with_result(session, project.id, RUNS)) if tests else {}
    aside = {held.test for held in open_quarantines(session, project.id)}
    return {test for test, found in chances.items() if found.sure >= SURE} | (aside & set(tests))


def chances_of(session: Session, tests: Sequence[int], attempts: Sequence[WithResult]) -> dict[int, Chance]:
    """What all results of these attempts say of each test's chance; `since` is a place in the order of ancestry."""
    by_id = {a.id: a for a in attempts}
    commits = {c: i for i, c in enumerate(dict.fromkeys(a.commit for a in attempts))}
    runners = {r: i for i, r in enumerate(dict.fromkeys(a.runner for a in attempts))}
    found = {}
    for test, told in outcomes_of_tests(session, tests, list(by_id)).items():
        cells: dict[tuple[str, str], int] = {}
        rows: list[tuple[int, int, int, bool, bool, int, int]] = []
        for outcome, those in told:
            bad = (True, False) if outcome == Outcome.FLAKY else (outcome in (Outcome.FAILED, Outcome.ERRORED),)
            for a in (by_id[i] for i in those):
                cell = cells.setdefault((a.job, a.key), len(cells))
                rows += [
                    (commits[a.commit], a.depth, cell, failed, a.line, runners[a.runner], a.hour) for failed in bad
                ]
        found[test] = judged(flat(rows), [values_of(key) for _, key in cells], list(runners))
    return found


def values_of(key: str) -> dict[str, str]:
    """The dimension values that a cell's key tells."""
    return dict(part.partition("=")[::2] for part in key.split(",") if "=" in part)


def _views(
    session: Session,
    project: Project,
    tests: Sequence[int],
    evidence: Mapping[int, _Evidence],
    aside: Mapping[int, Quarantine],
    attempts: Sequence[WithResult],
) -> list[FlakeView]:
    chances = chances_of(session, tests, attempts)
    titles = tests_numbered(session, project.id, list(tests))
    begun = begun_at(session, project.id, [c.since for c in chances.values() if c.since is not None])
    views = []
    for test, found in chances.items():
        told = evidence.get(test, _Evidence())
        row, held = titles.get(test), aside.get(test)
        views.append(
            FlakeView(
                test,
                test_title(row.suite, row.klass, row.name) if row else f"test {test}",
                row.job if row else "",
                found.rate,
                found.low,
                found.high,
                found.odd if found.now else 0,
                found.tries,
                found.sure,
                found.only,
                begun.get(found.since or 0),
                found.sure >= SURE and not found.now,
                told.retested,
                told.controlled,
                told.alone,
                told.seconds / 60,
                found.flaky,
                found.flaky and held is None,
                quarantine_view(held, titles) if held is not None else None,
            )
        )
    return sorted(views, key=lambda v: (-v.minutes, -v.rate, v.title))


def _evidence(session: Session, every: Sequence[WithResult], only: int | None = None) -> dict[int, _Evidence]:
    """By test, what speaks for chance: mixed results of one cell on one commit, and lone failures."""
    attempts = [a for a in every if a.own]
    failures = failed_in(session, [a.id for a in attempts], only)
    found: dict[int, _Evidence] = {}
    doubted: list[tuple[int, Doubt]] = []
    by_cell: dict[int, list[WithResult]] = {}
    for a in attempts:
        by_cell.setdefault(a.cell, []).append(a)
        for test, flaky in failures.get(a.id, {}).items():
            if flaky:
                found.setdefault(test, _Evidence()).retested += 1
    for several in by_cell.values():
        if len(several) > 1:
            doubted += _mixed(several, failures)
    doubted += _alone([a for a in attempts if a.newest and a.line], failures)
    for test, times in _again([a for a in attempts if a.newest and a.line], failures).items():
        found.setdefault(test, _Evidence()).again = times
    passed = did_pass(session, {(attempt, test) for test, d in doubted for attempt in d.others})
    for test, doubt in doubted:
        if all((attempt, test) in passed for attempt in doubt.others):
            told = found.setdefault(test, _Evidence())
            setattr(told, doubt.kind, getattr(told, doubt.kind) + 1)
            told.seconds += doubt.seconds
    return found


@dataclass(frozen=True, slots=True)
class Doubt:
    """A failure that is odd if the test passed in the `others`, attempts beside it."""

    kind: str  # a count of _Evidence
    others: tuple[int, ...]
    seconds: float = 0.0


def _mixed(several: Sequence[WithResult], failures: Mapping[int, Mapping[int, bool]]) -> list[tuple[int, Doubt]]:
    """Tests that failed in some attempts of a cell and not in another."""
    found = []
    failed = [{t for t, flaky in failures.get(a.id, {}).items() if not flaky} for a in several]
    for test in set().union(*failed):
        other = next((a for a, tests in zip(several, failed, strict=True) if test not in tests), None)
        if other is not None:
            again = next((a for a in reversed(several) if a.place), several[-1])
            kind = "controlled" if again.place else "retested"
            found.append((test, Doubt(kind, (other.id,), again.seconds)))
    return found


def _alone(newest: Sequence[WithResult], failures: Mapping[int, Mapping[int, bool]]) -> list[tuple[int, Doubt]]:
    """Failures between two results of the same cell on neighbouring commits that did not fail.

    A commit that is put right at once fails in many cells alike: a test's lone failures count only when they stand in
    at most half of the job's cells.
    """
    by_key: dict[tuple[str, str], list[WithResult]] = {}
    for a in newest:
        by_key.setdefault((a.job, a.key), []).append(a)
    cells = Counter(job for job, _ in by_key)
    found: dict[int, list[tuple[tuple[str, str], Doubt]]] = {}
    for key, series in by_key.items():
        for before, here, after in zip(series, series[1:], series[2:], strict=False):
            beside = failures.get(before.id, {}).keys() | failures.get(after.id, {}).keys()
            for test, flaky in failures.get(here.id, {}).items():
                if not flaky and test not in beside:
                    found.setdefault(test, []).append((key, Doubt("alone", (before.id, after.id))))
    return [
        (test, doubt)
        for test, doubts in found.items()
        if 2 * len({key for key, _ in doubts}) <= cells[doubts[0][0][0]]
        for _, doubt in doubts
    ]


def _again(newest: Sequence[WithResult], failures: Mapping[int, Mapping[int, bool]]) -> Counter[int]:
    """How often a test failed in a cell after it had failed there before, and no more in between."""
    found: Counter[int] = Counter()
    last: dict[tuple[str, str, int], int] = {}
    places: Counter[tuple[str, str]] = Counter()
    for a in newest:
        places[a.job, a.key] += 1
        at = places[a.job, a.key]
        for test in failures.get(a.id, {}):
            before = last.get((a.job, a.key, test))
            found[test] += before is not None and before < at - 1
            last[a.job, a.key, test] = at
    return +found


def _ended(session: Session, project_id: int) -> list[QuarantineView]:
    rows = ended_quarantines(session, project_id, 50)
    titles = tests_numbered(session, project_id, [held.test for held in rows])
    return [quarantine_view(held, titles) for held in rows]


def quarantine_view(held: Quarantine, titles: Mapping[int, Test]) -> QuarantineView:
    row = titles.get(held.test)
    title = test_title(row.suite, row.klass, row.name) if row is not None else f"test {held.test}"
    return QuarantineView(
        held.id, held.test, title, held.reason, held.owner, held.by, held.at, held.until, held.ended_at, held.ended_why
    )
