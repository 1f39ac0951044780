"""Fewer cells, replayed: against counting by hand and against every subset of small made-up pasts."""

from __future__ import annotations

from dataclasses import replace
from itertools import combinations, product

import numpy as np
import pytest

from myriant.core.trends.fewer import LEAST_RUNS, Fewer, fewer
from myriant.core.trends.versions import CellTotal

CELLS = [{"lua": a, "harbour": b} for a, b in product(("5.1", "5.4"), ("north", "south", "east"))]


def past(seed: int, runs: int = 60) -> list[CellTotal]:
    """Breaks of one cell, of one value, of all, and none; each cell takes a time of its own."""
    rng = np.random.default_rng(seed)
    seconds = rng.uniform(5, 60, len(CELLS))
    found = []
    for run in range(1, runs + 1):
        kind = rng.choice(["none", "one", "value", "all"], p=[0.6, 0.15, 0.15, 0.1])
        at, value = int(rng.integers(len(CELLS))), str(rng.choice(["5.1", "5.4"]))
        for i, values in enumerate(CELLS):
            failed = kind == "all" or (kind == "one" and i == at) or (kind == "value" and values["lua"] == value)
            found.append(CellTotal(run, "unit", values, False, bool(failed), float(seconds[i])))
    return found


def told(cells: list[CellTotal]) -> Fewer:
    found = fewer(cells, "unit")
    assert found is not None
    return found


@pytest.mark.parametrize("seed", range(6))
def test_each_step_finds_what_it_says_and_no_set_as_quick_finds_much_more(seed: int) -> None:
    cells = past(seed)
    found = told(cells)
    failed: dict[int, set[str]] = {}
    seconds: dict[str, float] = {}
    for c in cells:
        key = f"{c.values['lua']} {c.values['harbour']}"
        seconds[key] = c.seconds
        if c.failed:
            failed.setdefault(c.run, set()).add(key)
    assert (found.breaks, found.cells, found.runs) == (len(failed), 6, 60)
    assert found.seconds == pytest.approx(sum(seconds.values()))
    chosen: set[str] = set()
    for step in found.steps:
        chosen.add(f"{step.values['lua']} {step.values['harbour']}")
        assert step.found == sum(bool(keys & chosen) for keys in failed.values())
        assert step.seconds == pytest.approx(sum(seconds[k] for k in chosen))
    assert found.steps[-1].found == len(failed), "in the end all are found"
    for step in found.steps:  # beside the best set of at most as much time, found by trying all
        best = max(
            sum(bool(keys & set(some)) for keys in failed.values())
            for size in range(1, 7)
            for some in combinations(seconds, size)
            if sum(seconds[k] for k in some) <= step.seconds + 1e-9
        )
        assert step.found >= (1 - 1 / np.e) * best
    for way in found.ways:
        assert 0 <= way.found <= len(failed) and way.cells < 6 and way.seconds < found.seconds
    assert [w.name for w in found.ways] == ["each value once", "as many by chance"]


def test_a_choice_is_tried_on_breaks_that_it_has_not_seen() -> None:
    """Before run 45 only 5.1 breaks, then only 5.4: what was chosen before finds nothing since."""
    cells = [
        CellTotal(run, "unit", values, False, run % 3 == 0 and values["lua"] == ("5.1" if run <= 42 else "5.4"), 10.0)
        for run in range(1, 61)
        for values in CELLS
    ]
    found = told(cells)
    assert found.checked is not None
    assert (found.checked.cells, found.checked.found, found.checked.breaks, found.checked.since) == (1, 0, 6, 45)
    assert (len(found.steps), found.steps[-1].found) == (2, 20)


@pytest.mark.parametrize(
    "cells",
    [
        [],
        past(1, LEAST_RUNS - 1),  # too few runs
        [c for c in past(1) if c.values == CELLS[0]],  # one cell: there are no fewer
        [CellTotal(c.run, "unit", c.values, True, c.failed, c.seconds) for c in past(1)],  # advisory ones hold nothing
    ],
)
def test_nothing_is_said_where_too_little_is_known(cells: list[CellTotal]) -> None:
    assert fewer(cells, "unit") is None


def test_what_the_matrix_was_long_ago_is_no_part_of_it() -> None:
    """A version that was retired is not among the cells; one that has just come leaves too little to say."""
    cells = past(4, 80)
    retired = [c for c in cells if c.run <= 30 or c.values["harbour"] != "east"]
    found = told(retired)
    assert found.cells == 4 and found.runs == 80 and all(s.values["harbour"] != "east" for s in found.steps)
    assert fewer([c for c in cells if c.run > 75 or c.values["harbour"] != "east"], "unit") is None


def test_the_order_in_which_cells_come_changes_nothing() -> None:
    cells = past(5)
    assert told(cells[::-1]) == told(cells)


def test_runs_without_every_cell_say_nothing_and_no_break_is_no_advice() -> None:
    cells = [replace(c, run=2 * c.run) for c in past(3)]
    sampled = [CellTotal(c.run + 1, "unit", c.values, False, True, 1.0) for c in cells if c.values == CELLS[0]]
    assert told([*cells, *sampled]) == told(cells)
    quiet = told([CellTotal(c.run, "unit", c.values, False, False, c.seconds) for c in cells])
    assert (quiet.steps, quiet.breaks, quiet.checked) == ([], 0, None)
