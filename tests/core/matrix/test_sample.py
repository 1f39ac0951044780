"""Samples, verified by a checker that shares nothing with what chooses them."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from myriant.core.matrix.expand import choose, expand
from myriant.core.matrix.sample import blind_spots, sample
from myriant.core.plan.read import read_plan


def tuples_in(rows: list[tuple[int, ...]], strength: int) -> set[tuple[tuple[int, int], ...]]:
    """Every tuple of (dimension, value) that occurs in the rows, by brute force."""
    return {
        tuple(zip(dims, (row[d] for d in dims), strict=True))
        for row in rows
        for dims in itertools.combinations(range(len(row)), strength)
    }


levels_and_strength = st.tuples(st.lists(st.integers(1, 5), min_size=1, max_size=5), st.integers(2, 4))


@given(levels_and_strength, st.randoms(use_true_random=False), st.booleans())
@settings(max_examples=80, deadline=None)
def test_a_sample_covers_whatever_an_allowed_row_has_and_chooses_only_allowed_rows(
    given_: tuple[list[int], int], random, keep_some
) -> None:  # type: ignore[no-untyped-def]
    levels, strength = given_
    every = list(itertools.product(*(range(n) for n in levels)))
    allowed = [row for row in every if random.random() < 0.7] or every[:1]
    kept = [row for row in allowed if keep_some and random.random() < 0.2]
    rows = sample(levels, strength, np.array(allowed, np.int16), np.array(kept, np.int16).reshape(-1, len(levels)))
    found = [tuple(r) for r in rows.tolist()]
    assert set(found) <= set(allowed) and len(set(found)) == len(found)
    size = min(strength, len(levels))
    assert tuples_in(found, size) == tuples_in(allowed, size)
    again = sample(levels, strength, np.array(allowed, np.int16), np.array(kept, np.int16).reshape(-1, len(levels)))
    assert (again == rows).all()
    if size == strength:
        spots = blind_spots(levels, rows, np.array(allowed, np.int16), strength + 1)
        if spots is not None:
            larger = tuples_in(allowed, strength + 1)
            assert (spots.possible, spots.missed) == (len(larger), len(larger - tuples_in(found, strength + 1)))
            assert set(spots.examples) <= larger - tuples_in(found, strength + 1)


@pytest.mark.parametrize(
    ("levels", "strength", "most"),
    [
        ([3] * 4, 2, 9),
        ([3] * 13, 2, 16),
        ([2] * 100, 2, 11),
        ([4] * 15 + [3] * 17 + [2] * 29, 2, 35),
        ([2] * 12, 4, 60),
        ([6, 5, 4, 3, 2], 2, 30),
    ],
)
def test_samples_stay_small(levels: list[int], strength: int, most: int) -> None:
    rows = [tuple(r) for r in sample(levels, strength).tolist()]
    assert len(rows) <= most
    for dims in itertools.combinations(range(len(levels)), strength):
        expected = 1
        for d in dims:
            expected *= levels[d]
        assert len({tuple(row[d] for d in dims) for row in rows}) == expected


PLAN = """
version = 1
[jobs.unit]
vary = {{ python = [{pythons}], rounding = ["a", "b", "c"], size = ["s", "m", "l"], zone = ["n", "t"] }}
runtime = ["python"]
drop = [{{ python = "3.8", rounding = "b" }}]
add = [{{ python = "3.7", rounding = "a", size = "s", zone = "n" }}]
advisory = [{{ python = "3.13", zone = "t" }}]
sample = {{ strength = 2 }}
[[jobs.unit.steps]]
command = "true $MYRIANT_CELL_ROUNDING $MYRIANT_CELL_SIZE $MYRIANT_CELL_ZONE"
"""


def test_one_more_value_keeps_the_sample_and_fewer_values_leave_no_spare_cell() -> None:
    def job(pythons: str):  # type: ignore[no-untyped-def]
        plan = read_plan(PLAN.format(pythons=pythons).encode()).plan
        assert plan is not None
        return plan.job("unit")

    before = job('"3.8", "3.9", "3.12", "3.13"')
    first = choose(before, expand(before))
    chosen = {c.key for c in first.cells if c.selected}
    assert len(chosen) < len(first.cells) / 2
    assert {c.key for c in first.cells if c.added or c.advisory} <= chosen
    assert not any(c.values["python"] == "3.8" and c.values["rounding"] == "b" for c in first.cells)
    for wider in ('"3.8", "3.9", "3.11", "3.12", "3.13"', '"3.14", "3.8", "3.9", "3.12", "3.13"'):
        after = job(wider)
        second = {c.key for c in choose(after, expand(after), chosen).cells if c.selected}
        assert len(second & chosen) >= 0.9 * len(chosen) and len(second) > len(chosen)
    same = {c.key for c in choose(before, expand(before), chosen).cells if c.selected}
    assert same == chosen
    fewer = job('"3.8", "3.13"')
    left = [c for c in choose(fewer, expand(fewer), chosen).cells if c.selected]
    assert len(left) < len(chosen)


@pytest.mark.parametrize("more", ["", "vary = {}\n"])
def test_a_sample_of_a_job_without_dimensions_is_all_of_it(more: str) -> None:
    text = f'version = 1\n[jobs.unit]\nsample = {{ strength = 2 }}\n{more}[[jobs.unit.steps]]\ncommand = "true"\n'
    plan = read_plan(text.encode()).plan
    assert plan is not None and plan.jobs[0].sample is not None
    assert choose(plan.jobs[0], expand(plan.jobs[0])).cells == expand(plan.jobs[0])
