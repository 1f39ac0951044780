"""Changes of level in generated series that know where theirs are; and records of versions counted by hand."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from myriant.core.trends.changes import LEAST, _bound, _scores, changes
from myriant.core.trends.versions import CellTotal, records

Values = NDArray[np.float64]
SERIES = 60  # of each kind; the long table is in `python -m tests.bench trends`


def white(rng: np.random.Generator, n: int) -> Values:
    return 100 + rng.normal(0, 5, n)


def heavy(rng: np.random.Generator, n: int) -> Values:
    return 100 + rng.standard_t(2, n) * 4


def two_machines(rng: np.random.Generator, n: int) -> Values:
    return np.where(rng.random(n) < 0.5, 100, 130) + rng.normal(0, 4, n)


def lasting(rng: np.random.Generator, n: int) -> Values:
    return 100 + 3 * np.convolve(rng.normal(0, 4, n + 4), np.ones(5) / 5, "valid")


@pytest.mark.parametrize(("noise", "most"), [(white, 1), (heavy, 1), (two_machines, 1), (lasting, 6)])
def test_noise_alone_gives_hardly_an_alarm(noise: Callable[[np.random.Generator, int], Values], most: int) -> None:
    rng = np.random.default_rng(11)
    alarms = sum(bool(changes(noise(rng, int(rng.integers(12, 300))))) for _ in range(SERIES))
    assert alarms <= most, f"{alarms} of {SERIES}"


@pytest.mark.parametrize(("noise", "found_at_least"), [(white, 57), (heavy, 54)])
def test_a_shift_is_found_where_it_is(noise: Callable[[np.random.Generator, int], Values], found_at_least: int) -> None:
    rng = np.random.default_rng(12)
    found = within = extra = 0
    for _ in range(SERIES):
        values = noise(rng, 200)
        at = int(rng.integers(15, 185))
        values[at:] += rng.uniform(15, 40)
        values[rng.integers(0, 200, 5)] *= 4  # outliers
        told = changes(values)
        near = [c for c in told if abs(c.at - at) <= 5]
        found += bool(near)
        within += any(c.earliest - 1 <= at <= c.latest + 1 for c in near)
        extra += len(told) - len(near)
    assert found >= found_at_least and extra <= 6, (found, extra)
    assert within >= found * 0.9  # the range that is named holds it


def test_the_range_that_is_named_holds_the_place_of_small_shifts() -> None:
    rng = np.random.default_rng(5)
    found = within = 0
    for _ in range(300):
        values = white(rng, 120)
        at = int(rng.integers(20, 100))
        values[at:] += rng.uniform(6, 12)  # little more than the noise
        near = [c for c in changes(values) if abs(c.at - at) <= 12]
        found += bool(near)
        within += any(c.earliest <= at <= c.latest for c in near)
    assert found > 240 and within >= 0.97 * found, (found, within)


@pytest.mark.parametrize(
    ("values", "told"),
    [
        ([], []),
        ([5.0], []),
        ([5.0] * 100, []),
        ([None] * 50, []),
        ([None, *[4.0] * 20, None, *[8.0] * 20], [(22, 4.0, 8.0)]),
        ([2.0] * 30 + [2.05] * 30, []),  # less than anybody would call a change
        ([10.0] * 20 + [20.0] * 20 + [10.0] * 20, [(20, 10.0, 20.0), (40, 20.0, 10.0)]),
        ([0.0] * 20 + [3.0] * 20, [(20, 0.0, 3.0)]),
        ([1.0] * 20 + [1000.0] + [1.0] * 20, []),  # one outlier
        ([1.0] * (LEAST - 1) + [9.0] * 30, [(LEAST, 1.0, 9.0)]),  # a level has five values at least
        ([1.0] * 2 + [9.0] * 30, []),  # too few to say
    ],
)
def test_corners(values: list[float | None], told: list[tuple[int, float, float]]) -> None:
    assert [(c.at, c.before, c.after) for c in changes(values)] == told


@given(st.lists(st.one_of(st.none(), st.floats(allow_infinity=False, width=32)), max_size=60))
def test_any_series_is_read_and_places_are_in_order(values: list[float | None]) -> None:
    told = changes(values)
    assert [c.at for c in told] == sorted({c.at for c in told})
    assert all(c.earliest <= c.at <= c.latest and values[c.at] is not None for c in told)


def cells(run: int, **failed: bool) -> list[CellTotal]:
    return [CellTotal(run, "unit", {"lua": v.replace("_", ".")}, v == "v6", f, 2.0) for v, f in failed.items()]


def test_a_versions_record_is_what_counting_by_hand_gives() -> None:
    runs = [c for i in range(20) for c in cells(i, v1=i in (3, 4), v2=i in (4, 5), v3=i in (4,), v6=False)]
    told = {
        r.value: (r.runs, r.failed, r.alone, r.breaks, r.seconds, r.share, r.advisory, r.advice) for r in records(runs)
    }
    assert told == {
        "v1": (20, 2, 1, 3, 40.0, 0.25, False, "keep"),
        "v2": (20, 2, 1, 3, 40.0, 0.25, False, "keep"),
        "v3": (20, 1, 0, 3, 40.0, 0.25, False, "nights"),
        "v6": (20, 0, 0, 3, 40.0, 0.25, True, "promote"),
    }
    assert all(r.advice == "" for r in records(cells(1, v1=False, v2=True)))
    failing = [c for i in range(20) for c in cells(i, v1=False, v6=i == 3)]  # an advisory one that found something
    assert {r.value: r.advice for r in records(failing)} == {"v1": "", "v6": ""}
    assert records([CellTotal(1, "lint", {"lua": "5.4"}, False, False, 1.0)]) == []


def test_what_ran_nowhere_else_is_nobodys_alone() -> None:
    """A break in a run where another value of today did not run may be everybody's."""
    sampled = [c for i in range(20) for c in cells(i, v1=i in (3, 4), **({} if i == 3 else {"v2": False}))]
    assert {r.value: (r.failed, r.alone) for r in records(sampled)} == {"v1": (2, 1), "v2": (0, 0)}
    retired = [c for i in range(20) for c in cells(i, v1=i == 12, v2=False, **({"v0": False} if i < 5 else {}))]
    assert next(r.alone for r in records(retired) if r.value == "v1") == 1  # what is no more is not waited for
    unseen = [c for i in range(20) for c in cells(i, v1=i in (3, 4, 5), **({} if i in (3, 4, 5) else {"v2": False}))]
    assert {r.value: r.advice for r in records(unseen)} == {"v1": "", "v2": ""}  # it could have shown nothing


@pytest.mark.parametrize("size", [10, 60, 300, 800])
def test_the_bound_is_passed_in_one_series_of_two_hundred(size: int) -> None:
    rng = np.random.default_rng(size)
    passed = np.mean([_scores(rng.random(size)).max() > _bound(size) for _ in range(6000)])
    assert 0.002 < passed < 0.009, passed
