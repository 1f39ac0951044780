"""Rankings against what was put into made-up pasts."""

from __future__ import annotations

import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.trends.rankings import chance_of, counts_of_failures, risky_files, slow_tests, together


@given(st.lists(st.tuples(st.sets(st.integers(0, 6)), st.booleans()), max_size=12))
def test_failures_are_counted_as_by_hand(past: list[tuple[set[int], bool]]) -> None:
    failing, held = [tests for tests, _ in past], [h for _, h in past]
    told = counts_of_failures(failing, held)
    assert {c.test for c in told} == set().union(*failing)
    for c in told:
        mine = [c.test in tests for tests in failing]
        assert c.runs == sum(mine) and c.held == sum(m and h for m, h in zip(mine, held, strict=True))
        assert c.began == sum(m and not b for m, b in zip(mine, [False, *mine], strict=False))
    assert [c.held for c in told] == sorted((c.held for c in told), reverse=True)


@given(st.lists(st.sets(st.integers(0, 5)), max_size=10), st.integers(1, 4))
def test_tests_that_fail_together_fail_in_the_very_same_runs(failing: list[set[int]], least: int) -> None:
    runs = {t: [i for i, tests in enumerate(failing) if t in tests] for t in range(6)}
    told = together(failing, least)
    assert {tuple(g.tests) for g in told} == {
        same for t in runs if len(runs[t]) >= least and len(same := tuple(o for o in runs if runs[o] == runs[t])) > 1
    }
    assert all(g.runs == len(runs[g.tests[0]]) for g in told)


nan = float("nan")


@pytest.mark.parametrize(
    ("seconds", "whole", "told"),
    [  # test: seconds together, what the run would be shorter
        ({"a": [3.0, 1.0], "b": [1.0, 4.0]}, {"a": 10.0, "b": 6.0}, {1: (5.0, 1.0), 0: (4.0, 3.0)}),
        ({"a": [3.0]}, {"a": 10.0, "b": 9.0}, {0: (3.0, 1.0)}),  # another cell is as long without it
        ({"a": [nan, 2.0], "b": [5.0]}, {"a": 9.0, "b": 9.0}, {0: (5.0, 0.0), 1: (2.0, 0.0)}),
        ({}, {"a": 9.0}, {}),
        (
            {"a": [0.004, 0.006], "b": [0.005, 0.004]},
            {"a": 0.2, "b": 0.1},
            {1: (0.01, 0.006)},
        ),  # nine milliseconds are not slow
        ({"a": [12.0]}, {"a": 10.0}, {0: (12.0, 10.0)}),  # tests side by side take more than their cell
    ],
)
def test_a_slow_test_costs_what_its_longest_cell_would_gain(
    seconds: dict[str, list[float]], whole: dict[str, float], told: dict[int, tuple[float, float]]
) -> None:
    found = slow_tests({c: np.array(s) for c, s in seconds.items()}, whole)
    assert {s.test: (round(s.seconds, 9), round(s.gain, 9)) for s in found} == told
    assert [s.seconds for s in found] == sorted((s.seconds for s in found), reverse=True)


def test_only_files_that_break_more_than_others_are_named() -> None:
    """200 worlds of 80 pushes over 40 files: one file breaks half of its changes, the others break one in twenty."""
    right = wrong = 0
    for seed in range(200):
        rng = random.Random(seed)
        changes = []
        for _ in range(80):
            files = rng.sample(range(40), 4)
            if rng.random() < 0.3:
                files[0] = 40  # the bad one
            changes.append((files, rng.random() < (0.55 if 40 in files else 0.05)))
        named = [f.path for f in risky_files(changes)]
        right += named[:1] == [40]
        wrong += any(path != 40 for path in named)
    assert right >= 190 and wrong <= 10, (right, wrong)


def test_a_file_that_only_keeps_bad_company_is_not_blamed() -> None:
    blamed = 0
    for seed in range(200):
        rng = random.Random(seed)
        changes = []
        for _ in range(80):
            bad = rng.random() < 0.3
            files = {
                *rng.sample(range(30), 3),
                *([40] if bad else []),
                *([41] if rng.random() < (0.7 if bad else 0.05) else []),
            }
            changes.append((files, rng.random() < (0.6 if bad else 0.05)))
        named = [f.path for f in risky_files(changes)]
        blamed += 40 in named and 41 in named
    assert blamed <= 10, blamed


def test_where_no_file_is_worse_hardly_any_is_named() -> None:
    named = 0
    for seed in range(200):
        rng = random.Random(seed)
        changes = [(rng.sample(range(40), 4), rng.random() < 0.2) for _ in range(80)]
        named += bool(risky_files(changes))
    assert named <= 10, named


def test_the_chance_of_a_table_is_that_of_drawing_it() -> None:
    rng, pushes, broken, n = random.Random(1), 12, 5, 4
    drawn = [sum(x < broken for x in rng.sample(range(pushes), n)) for _ in range(20_000)]
    for broke in range(5):
        seen = sum(d >= broke for d in drawn) / len(drawn)
        assert chance_of(broke, n, broken, pushes) == pytest.approx(seen, abs=0.015)
