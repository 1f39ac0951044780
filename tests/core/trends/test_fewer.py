"""Fewer cells, replayed: against counting by hand and against every subset of small made-up pasts."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from itertools import combinations, product

import numpy as np
import pytest

from myriant.core.trends.fewer import LEAST_RUNS, NIGHT, Fewer, fewer
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
    found = fewer(cells, "unit", at(cells))
    assert found is not None
    return found


def at(cells: list[CellTotal]) -> dict[int, float]:
    """Runs five hours apart, so that some days have four and others five."""
    return {c.run: 1_700_000_000 + c.run * 5 * 3600.0 for c in cells}


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
    assert fewer(cells, "unit", at(cells)) is None


def test_what_the_matrix_was_long_ago_is_no_part_of_it() -> None:
    """A version that was retired is not among the cells; one that has just come leaves too little to say."""
    cells = past(4, 80)
    retired = [c for c in cells if c.run <= 30 or c.values["harbour"] != "east"]
    found = told(retired)
    assert found.cells == 4 and found.runs == 80 and all(s.values["harbour"] != "east" for s in found.steps)
    few = [c for c in cells if c.run > 75 or c.values["harbour"] != "east"]
    assert fewer(few, "unit", at(few)) is None


def test_the_order_in_which_cells_come_changes_nothing() -> None:
    cells = past(5)
    assert told(cells[::-1]) == told(cells)


def test_runs_without_every_cell_say_nothing_and_no_break_is_no_advice() -> None:
    cells = [replace(c, run=2 * c.run) for c in past(3)]
    sampled = [CellTotal(c.run + 1, "unit", c.values, False, True, 1.0) for c in cells if c.values == CELLS[0]]
    assert told([*cells, *sampled]) == told(cells)
    quiet = told([CellTotal(c.run, "unit", c.values, False, False, c.seconds) for c in cells])
    assert (quiet.steps, quiet.breaks, quiet.checked) == ([], 0, None)


@pytest.mark.parametrize("lasts", [1, 3, 12])
@pytest.mark.parametrize("seed", range(3))
def test_nights_see_what_still_fails_when_they_come_and_nothing_else(seed: int, lasts: int) -> None:
    """Replayed by the clock, run by run, where the replay works with columns; a break lasts some runs."""
    rng = np.random.default_rng(seed)
    left = [0] * len(CELLS)
    cells = []
    for run in range(1, 81):
        for i, values in enumerate(CELLS):
            new = left[i] == 0 and rng.random() < 0.06
            left[i] = lasts if new else max(0, left[i] - 1)
            cells.append(CellTotal(run, "unit", values, False, bool(new), 10.0 + i, left[i] > 0))
    found = told(cells)
    times = at(cells)
    by_run = {run: [c for c in cells if c.run == run] for run in times}
    chosen: list[dict[str, str]] = []
    for step in found.steps:
        chosen.append(dict(step.values))
        waits, over, nights = [], 0, set()
        for run, mine in by_run.items():
            now = datetime.fromtimestamp(times[run], UTC)
            night = now.replace(hour=NIGHT, minute=0, second=0, microsecond=0)
            night += timedelta(days=1) if night <= now else timedelta(0)
            nights.add(night)
            broken = [c.values for c in mine if c.failed]
            if not broken or any(v in chosen for v in broken):
                continue
            newest = max(r for r in by_run if datetime.fromtimestamp(times[r], UTC) <= night)
            if any(c.values in broken and c.ended_failed for c in by_run[newest]):
                waits.append((night - now).total_seconds() / 3600)
            else:
                over += 1
        assert (step.late, step.over) == (len(waits), over)
        assert step.found + step.late + step.over == found.breaks
        assert step.hours == (pytest.approx(float(np.median(waits))) if waits else None)
        by_day = sum(c.seconds for c in cells if c.values in chosen)
        each_night = sum(10.0 + i for i, v in enumerate(CELLS) if v not in chosen)
        assert step.saved == pytest.approx(1 - (by_day + len(nights) * each_night) / sum(c.seconds for c in cells))


def test_an_order_knows_only_what_came_before() -> None:
    """One cell fails every time and another is the quickest: what failed last is first from the second break on."""
    cells = [
        CellTotal(run, "unit", values, False, i == 4 and run % 2 == 0, 5.0 if i == 0 else 20.0)
        for run in range(1, 61)
        for i, values in enumerate(CELLS)
    ]
    orders = {o.name: o.seconds for o in told(cells).orders}
    assert orders["those that failed last first"] == orders["those that found most in their time first"] == 20.0
    assert orders["the shortest first"] == 5.0 + 5 * 20.0, "of equal ones it is the last, by its values"
    assert 40 < orders["by chance"] < 75, "half of them and the cell itself"


def test_an_order_by_what_failed_last_is_wrong_where_two_cells_take_turns() -> None:
    cells = [
        CellTotal(run, "unit", {"lua": version}, False, (run % 2 == 0) == (version == "5.1"), 10.0)
        for run in range(1, 41)
        for version in ("5.1", "5.4")
    ]
    orders = {o.name: o.seconds for o in told(cells).orders}
    assert orders["those that failed last first"] == 20.0, "the other one is looked at first, each time"
