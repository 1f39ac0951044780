"""Two values beside each other: counted by hand, and what is claimed beside generated truth."""

from __future__ import annotations

import numpy as np
import pytest

from myriant.core.trends.beside import Beside, beside
from myriant.core.trends.versions import CellTotal

HARBOURS = ("north", "south")


def cells(
    rng: np.random.Generator, runs: int, fails: tuple[float, float], times: tuple[float, float]
) -> list[CellTotal]:
    """Two versions in two harbours; a run has its own speed, and what fails in it fails in both harbours."""
    found = []
    for run in range(runs):
        pace = rng.lognormal(0, 0.4)
        for version, chance, seconds in zip(("5.1", "5.4"), fails, times, strict=True):
            bad = bool(rng.random() < chance)
            for harbour in HARBOURS:
                values = {"lua": version, "harbour": harbour}
                took = seconds * pace * rng.lognormal(0, 0.05)
                found.append(CellTotal(run, "unit", values, False, False, float(took), bad))
    return found


def compared(some: list[CellTotal], one: str = "5.1", other: str = "5.4") -> Beside:
    return beside(some, "unit", "lua", one, other)


def test_runs_are_counted_in_which_both_ran_under_the_same_conditions() -> None:
    def cell(run: int, version: str, harbour: str, failed: bool = False) -> CellTotal:
        return CellTotal(run, "unit", {"lua": version, "harbour": harbour}, False, False, 10.0, failed)

    some = [
        cell(1, "5.1", "north", True),
        cell(1, "5.4", "north"),  # one alone
        cell(2, "5.1", "north", True),
        cell(2, "5.4", "south"),  # no pair
        cell(3, "5.1", "north", True),
        cell(3, "5.4", "north", True),
        cell(3, "5.1", "south"),
        cell(3, "5.4", "south"),
        cell(4, "5.1", "north"),
        cell(4, "5.4", "north"),
        cell(5, "5.1", "north"),
        cell(5, "5.4", "north", True),
        cell(5, "5.2", "north", True),  # a third
        CellTotal(6, "else", {"lua": "5.1"}, False, False, 1.0, True),
        CellTotal(6, "else", {"lua": "5.4"}, False, False, 1.0),
    ]
    found = compared(some)
    assert (found.runs, found.both, found.only_one, found.only_other) == (4, 1, 1, 1)
    assert (found.fails_more, found.slower, found.ratio) == ("", "", 1.0)
    turned = compared(some, "5.4", "5.1")
    assert (turned.only_one, turned.only_other, turned.runs) == (1, 1, 4)
    assert compared(some, "5.1", "5.1").runs == 0 and compared([], "5.1", "5.4").ratio is None


@pytest.mark.parametrize(
    ("fails", "times", "more", "slower"),
    [
        ((0.3, 0.3), (10, 10), (0, 6), (0, 6)),  # nothing differs: 1 % of 200 are claimed by chance
        ((0.35, 0.02), (10, 10), (190, 200), (0, 6)),
        ((0.05, 0.05), (10, 9), (0, 6), (195, 200)),
    ],
)
def test_what_is_more_than_chance_is_claimed_and_little_else(
    fails: tuple[float, float], times: tuple[float, float], more: tuple[int, int], slower: tuple[int, int]
) -> None:
    rng = np.random.default_rng(5)
    told = [compared(cells(rng, 80, fails, times)) for _ in range(200)]
    assert more[0] <= sum(bool(b.fails_more) for b in told) <= more[1]
    assert slower[0] <= sum(bool(b.slower) for b in told) <= slower[1]
    assert {b.fails_more for b in told} <= {"", "5.1", "5.4"}
    if fails[0] > fails[1]:
        assert {b.fails_more for b in told} <= {"", "5.1"}, "never the wrong one"
    if times[0] > times[1]:
        assert {b.slower for b in told} <= {"", "5.1"}
        assert float(np.median([b.ratio for b in told if b.ratio])) == pytest.approx(times[0] / times[1], rel=0.02)
