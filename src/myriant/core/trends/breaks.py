"""Breaks: a test breaks once, from its first failure until every cell that showed it passes again."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Set
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class CellEnded:
    """A cell of a run whose results can be trusted. `failing` are tests by number; `new`, whether its run was judged
    to have new failures in it."""

    run: int
    job: str
    key: str
    new: bool
    failing: Set[int]


def begun(cells: Iterable[CellEnded]) -> dict[tuple[int, str, str], set[int]]:
    """By run, job and cell, the tests whose break begins in that run and shows in that cell; `cells` come run by run,
    in the order of ancestry.

    A test is broken until each cell in which it failed has passed it since. Cells that did not run say nothing.
    """
    shows: dict[tuple[str, str], set[int]] = {}  # by job and cell, the broken tests that it showed last
    broken: dict[str, Counter[int]] = {}  # by job, in how many cells each of them shows
    found: dict[tuple[int, str, str], set[int]] = {}
    for mine in _by_run(cells):
        for cell in mine:
            began = cell.failing - broken.setdefault(cell.job, Counter()).keys()
            if cell.new and began:
                found[cell.run, cell.job, cell.key] = set(began)
        for cell in mine:
            there = broken[cell.job]
            before: Set[int] = shows.get((cell.job, cell.key), frozenset())
            there.update(cell.failing - before)
            for test in before - cell.failing:
                there[test] -= 1
                if not there[test]:
                    del there[test]
            shows[cell.job, cell.key] = set(cell.failing)
    return found


def _by_run(cells: Iterable[CellEnded]) -> Iterable[list[CellEnded]]:
    mine: list[CellEnded] = []
    for cell in cells:
        if mine and mine[0].run != cell.run:
            yield mine
            mine = []
        mine.append(cell)
    if mine:
        yield mine
