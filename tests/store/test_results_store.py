"""Results in PostgreSQL: numbers of tests, packed outcomes, what did not pass, one test's history."""

from __future__ import annotations

import random
from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from sqlalchemy import func, select

from myriant.core.coverage.model import FileCoverage, Lines
from myriant.core.results.identity import Identity
from myriant.core.results.model import Outcome
from myriant.core.results.packed import SEGMENT
from myriant.store.coverage import coverage_files_of_attempts, coverage_totals_of, keep_coverage, merged_coverage_of
from myriant.store.engine import Store
from myriant.store.results import (
    NotPassed,
    all_not_passed,
    failing_outcomes_of,
    history_of_test,
    keep_results,
    outcomes_of,
)
from myriant.store.results import (
    test_numbers as numbers_of_tests,
)
from myriant.store.tables import Run
from myriant.store.tables import Test as StoredTest
from worlds import World, stored_project


@pytest.fixture
def store(world: World) -> Store:
    site = world.site
    return site.store


def named_tests(*names: str) -> list[Identity]:
    return [("unit", "s", "c", name) for name in names]


def test_numbers_stay_the_same_whatever_the_order_and_new_tests_get_the_next(store: Store) -> None:
    owner, _ = stored_project(store)
    with store.transaction() as session:
        first = numbers_of_tests(session, owner, "unit", named_tests("a", "b", "c")).tolist()
    with store.transaction() as session:
        mixed = numbers_of_tests(session, owner, "unit", named_tests("d", "c", "a")).tolist()
        other_job = numbers_of_tests(session, owner, "slow", named_tests("a")).tolist()
        again = numbers_of_tests(session, owner, "unit", named_tests("a", "b", "c")).tolist()
    assert first == again == [0, 1, 2] and mixed == [3, 2, 0] and other_job == [4]


def test_two_writers_at_once_give_each_test_one_number(store: Store) -> None:
    owner, _ = stored_project(store)
    names = [f"t{i}" for i in range(3000)]

    def write(seed: int) -> dict[str, int]:
        mine = random.Random(seed).sample(names, 2000)
        with store.transaction() as session:
            return dict(zip(mine, numbers_of_tests(session, owner, "unit", named_tests(*mine)).tolist(), strict=True))

    with ThreadPoolExecutor(4) as writers:
        found = list(writers.map(write, range(4)))
    for name in names:
        assert len({f[name] for f in found if name in f}) <= 1
    with store.transaction() as session:
        stored = session.scalar(select(func.count()).where(StoredTest.project_id == owner))
    assert stored == len({n for f in found for n in f})


def test_what_is_kept_comes_back_by_run_by_failure_and_by_test(store: Store) -> None:
    owner, attempts = stored_project(store, runs=4, cells=2)
    luck = np.random.default_rng(5)
    size = 3 * SEGMENT + 17
    truth = {}
    for attempt in attempts:
        with store.transaction() as session:
            numbers = numbers_of_tests(session, owner, "unit", named_tests(*(f"t{i}" for i in range(size))))
            outcomes = luck.choice([1, 1, 1, 2, 3, 4], size).astype(np.uint8)
            seconds = np.round(luck.lognormal(-4, 1, size), 4)
            bad = [
                NotPassed(int(numbers[i]), Outcome(outcomes[i]), f"message {i}", "", None)
                for i in np.flatnonzero(outcomes != 1)
            ]
            keep_results(session, attempt, numbers, outcomes, seconds, bad)
            truth[attempt] = (outcomes, seconds)
    with store.transaction() as session:
        for attempt, stored in outcomes_of(session, attempts).items():
            assert np.array_equal(stored, truth[attempt][0])
        for attempt, stored in failing_outcomes_of(session, attempts).items():
            expected = np.where(np.isin(truth[attempt][0], (2, 3)), truth[attempt][0], 0)
            assert np.array_equal(stored, expected[: len(stored)]) and not expected[len(stored) :].any()
        shown = all_not_passed(session, owner, attempts[:2])
        assert len(shown) == sum(int(np.isin(truth[a][0], (2, 3)).sum()) for a in attempts[:2])
        assert {s.name for s in shown if s.attempt_id == attempts[0]} == {
            f"t{i}" for i in np.flatnonzero(np.isin(truth[attempts[0]][0], (2, 3)))
        }
        number = SEGMENT + 5
        past = history_of_test(session, owner, number, runs=3)
        assert [(p.run, p.cell) for p in past] == [(r, f"n={c}") for r in (2, 3, 4) for c in (0, 1)]
        for entry, attempt in zip(past, attempts[2:], strict=True):
            outcome, seconds = truth[attempt][0][number], truth[attempt][1][number]
            assert entry.outcome == outcome and abs(entry.seconds - seconds) <= 0.0011 * seconds


def test_texts_that_postgresql_does_not_take_are_kept_readable(store: Store) -> None:
    owner, [attempt] = stored_project(store)
    with store.transaction() as session:
        numbers = numbers_of_tests(
            session, owner, "unit", named_tests("zero\0byte", "lone\ud800surrogate", "tab\tnew\nline\\N")
        )
        rows = [NotPassed(int(n), Outcome.FAILED, "a\0b", "\\N\t", None) for n in numbers]
        keep_results(session, attempt, numbers, np.full(3, 2, np.uint8), np.full(3, np.nan), rows)
    with store.transaction() as session:
        shown = all_not_passed(session, owner, [attempt])
    assert [s.name for s in shown] == ["zero␀byte", "lone?surrogate", "tab\tnew\nline\\N"]
    assert all(s.message == "a␀b" and s.detail == "\\N\t" for s in shown)


def file_of(**hits: int) -> FileCoverage:
    lines = Lines()
    for line, count_ in hits.items():
        lines.hit(int(line[1:]), count_)
    return lines.done()


def test_merged_coverage_is_replaced_and_an_attempts_is_kept(store: Store) -> None:
    owner, [attempt] = stored_project(store)
    with store.transaction() as session:
        run = session.scalars(select(Run).where(Run.project_id == owner)).one()
        keep_coverage(session, owner, run.id, "unit", attempt, {"a.lua": file_of(l1=1, l2=0), "b.lua": file_of(l9=3)})
        for files in ({"a.lua": file_of(l1=1)}, {"a.lua": file_of(l1=1, l2=0), "c.lua": file_of(l5=0)}):
            keep_coverage(session, owner, run.id, "unit", None, files)
    with store.transaction() as session:
        totals = coverage_totals_of(session, [run.id])[(run.id, "unit")]
        assert (totals.lines_valid, totals.lines_covered) == (3, 1)
        assert sorted(merged_coverage_of(session, run.id, ["unit"])["unit"]) == ["a.lua", "c.lua"]
        mine = coverage_files_of_attempts(session, [attempt])[attempt]
        assert sorted(mine) == ["a.lua", "b.lua"] and mine["a.lua"].uncovered == [2]
