"""The tests of a run, and one test over its whole history."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from myriant.core.results.packed import SEGMENT
from myriant.core.results.titles import test_title
from myriant.flow.compare.outcomes import Compared
from myriant.flow.diagnose.beside import beside
from myriant.flow.errors import BadInput
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.store.attempts import kinds_reported
from myriant.store.cells import cells_of
from myriant.store.history import last_failures_of, slowest_of
from myriant.store.results import Place, places_of_tests, tests_numbered, tests_with_words
from myriant.store.tables import Project, Run, Test

MOST_ROWS = 500


MOST_HEADINGS = 2_000


STATES = {
    "not-passed": "nfkqyx",
    "new": "nf",
    "known": "k",
    "flaky": "y",
    "skipped": "s",
    "quarantined": "q",
    "fixed": "x",
    "all": "",
}


_LETTERS = np.frombuffer(b" pnnsy", np.uint8)  # by outcome: absent, passed, failed, errored, skipped, flaky


_WORST_FIRST = np.frombuffer(b"nfkqyxsp ", np.uint8)


_RANK = np.full(256, len(_WORST_FIRST) - 1, np.uint8)


_RANK[_WORST_FIRST] = np.arange(len(_WORST_FIRST))


@dataclass(frozen=True, slots=True)
class GridCell:
    job: str
    key: str
    mark: str
    ran: bool


@dataclass(frozen=True, slots=True)
class TestRow:
    """A test in a run; `marks` has one letter for each cell of the grid, a blank where it has no result."""

    test: int
    kind: str
    name: str  # with what its heading does not say
    marks: str
    seconds: float | None  # in the slowest cell
    change: float | None  # of that, against the baseline
    failed_before: int | None  # the newest earlier run in which it failed


@dataclass(frozen=True, slots=True)
class Heading:
    """Tests of one job, suite and class that stand together; `marks` has the most important letter of each cell."""

    job: str
    suite: str
    klass: str
    tests: int
    marks: str


@dataclass(frozen=True, slots=True)
class KindCount:
    kind: str
    tests: int
    seconds: float  # over all cells


@dataclass(frozen=True, slots=True)
class TestsPage:
    cells: list[GridCell]
    total: int  # tests of the run in the chosen cells
    shown: int  # of them that fit what was asked for
    offset: int
    headings: list[Heading]  # in the order of the rows; suites or jobs where classes would be too many
    rows: list[TestRow]  # from `offset` on
    kinds: list[KindCount]


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which tests: `state` a key of STATES, every word of `search` in the name, cells as "job/key" (none: all)."""

    state: str = "not-passed"
    search: str = ""
    slower_than: float | None = None
    cells: Sequence[str] = ()
    offset: int = 0
    limit: int = MOST_ROWS


def grid_of_tests(site: Site, name: str, number: int, base: int | None, wanted: Wanted) -> TestsPage:
    """A window of the tests of a run, by job, suite and class, beside its reading baseline."""
    if wanted.state not in STATES:
        raise BadInput(f"{wanted.state!r} is no state of tests", f"use one of {', '.join(STATES)}")
    with site.store.view() as session:
        project = the_project(session, name)
        row = the_run(session, project, number)
        baseline, compared = beside(session, project, row, base)
        every = [c for c in cells_of(session, row.id) if c.selected]
        chosen = [c for c in every if not wanted.cells or f"{c.job}/{c.key}" in wanted.cells]
        names = [(c.job, c.key) for c in chosen]
        letters = letters_of(names, compared)
        present: NDArray[np.bool_] = np.any(letters != ord(" "), axis=0)
        fit: NDArray[np.bool_] = present & _fits(letters, wanted.state)
        attempts = [compared.attempts[n] for n in names if n in compared.attempts]
        if wanted.slower_than is not None:
            seconds = slowest_of(session, attempts, len(fit))
            fit &= np.nan_to_num(seconds, nan=-1.0) > wanted.slower_than
        numbers = np.flatnonzero(fit)
        if wanted.search.strip():
            numbers = np.intersect1d(numbers, _named(session, project, wanted.search))
        headings, numbers, depth = _headed(places_of_tests(session, project.id, numbers), letters)
        window: list[int] = numbers[wanted.offset : wanted.offset + min(wanted.limit, MOST_ROWS)].tolist()
        segments = sorted({n // SEGMENT for n in window})
        seconds = slowest_of(session, attempts, len(fit), segments)
        before = slowest_of(session, _attempts_then(session, baseline, names), len(fit), segments)
        tests = tests_numbered(session, project.id, window)
        failed = last_failures_of(session, project.id, window, row.number)
        rows = [_row(tests[n], depth, letters, seconds, before, failed.get(n)) for n in window if n in tests]
        return TestsPage(
            [GridCell(c.job, c.key, c.mark, (c.job, c.key) in compared.current) for c in chosen],
            int(present.sum()),
            len(numbers),
            wanted.offset,
            headings,
            rows,
            _kinds(session, attempts),
        )


def letters_of(names: Sequence[tuple[str, str]], compared: Compared) -> NDArray[np.uint8]:
    """One row a cell, one column a test: the letter of its mark."""
    size = max((len(c.new) for c in compared.cells.values()), default=0)
    found = np.full((len(names), size), ord(" "), np.uint8)
    for i, name in enumerate(names):
        outcomes = compared.current.get(name)
        if outcomes is None:
            continue
        found[i, : len(outcomes)] = _LETTERS[outcomes]
        result = compared.cells[name]
        new = "f" if result.first_here else "n"
        told = ((result.new, new), (result.known, "k"), (result.quarantined, "q"), (result.fixed, "x"))
        for flags, letter in told:
            found[i, : len(flags)][flags] = ord(letter)
    return found


def _fits(letters: NDArray[np.uint8], state: str) -> NDArray[np.bool_]:
    wanted = STATES[state]
    if not wanted:
        every: NDArray[np.bool_] = np.ones(letters.shape[1], np.bool_)
        return every
    found = np.isin(letters, np.frombuffer(wanted.encode(), np.uint8))
    fit: NDArray[np.bool_] = np.any(found, axis=0)
    return fit


def _attempts_then(session: Session, baseline: Run | None, names: Sequence[tuple[str, str]]) -> list[int]:
    """The newest attempts of these cells in the baseline."""
    if baseline is None:
        return []
    wanted = set(names)
    return [c.attempt_id for c in cells_of(session, baseline.id) if c.attempt_id and (c.job, c.key) in wanted]


def _named(session: Session, project: Project, search: str) -> NDArray[np.int64]:
    """Numbers of tests in whose suite, class or name every word of the search stands, in any case of letters."""
    return np.array(tests_with_words(session, project.id, search.lower().split()[:10]), np.int64)


def _headed(places: Sequence[Place], letters: NDArray[np.uint8]) -> tuple[list[Heading], NDArray[np.int64], int]:
    """Headings, the tests in their order, and how many of job, suite and class a heading says."""
    said = [((p.job, p.suite, p.klass), p.numbers) for p in places]
    depth = next(d for d in (3, 2, 1) if d == 1 or len({words[:d] for words, _ in said}) <= MOST_HEADINGS)
    first: dict[tuple[str, ...], int] = {}
    by_heading: dict[tuple[str, ...], list[NDArray[np.int64]]] = {}
    for words, numbers in said:
        for d in range(1, depth + 1):
            first[words[:d]] = min(first.get(words[:d], int(numbers[0])), int(numbers[0]))
        by_heading.setdefault(words[:depth], []).append(numbers)
    order = sorted(by_heading, key=lambda h: tuple(first[h[:d]] for d in range(1, depth + 1)))
    if not order:
        return [], np.zeros(0, np.int64), depth
    parts = [np.sort(np.concatenate(by_heading[h])) for h in order]
    numbers = np.concatenate(parts)
    starts = np.cumsum([0, *(len(part) for part in parts[:-1])])
    worst = _WORST_FIRST[np.minimum.reduceat(_RANK[letters[:, numbers]], starts, axis=1)]
    headings: list[Heading] = []
    for i, heading in enumerate(order):
        job, suite, klass = (*heading, "", "")[:3]
        headings.append(Heading(job, suite, klass, len(parts[i]), worst[:, i].tobytes().decode()))
    return headings, numbers, depth


def _row(
    test: Test,
    depth: int,
    letters: NDArray[np.uint8],
    seconds: NDArray[np.float64],
    before: NDArray[np.float64],
    failed: int | None,
) -> TestRow:
    now, then = float(seconds[test.number]), float(before[test.number])
    name = test_title(test.suite if depth < 2 else "", test.klass if depth < 3 else "", test.name)
    return TestRow(
        test.number,
        test.kind,
        name,
        letters[:, test.number].tobytes().decode(),
        now if now == now else None,
        now - then if now == now and then == then else None,
        failed,
    )


def _kinds(session: Session, attempts: Sequence[int]) -> list[KindCount]:
    rows = kinds_reported(session, attempts)
    totals: dict[str, dict[int, int]] = {}
    seconds: dict[str, float] = {}
    for kind, total, time, attempt in rows:
        by_attempt = totals.setdefault(kind, {})
        by_attempt[attempt] = by_attempt.get(attempt, 0) + total
        seconds[kind] = seconds.get(kind, 0.0) + time
    return [KindCount(kind, max(found.values()), seconds[kind]) for kind, found in totals.items()]
