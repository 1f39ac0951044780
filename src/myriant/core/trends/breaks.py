"""Breaks: a test breaks once, from its first failure until every cell that showed it passes again."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class CellEnded:
    """A cell of a run whose results can be trusted. `failing` are tests by number; `new`, whether its run was judged
    to have new failures in it."""

    run: int
    job: str
    key: str
    new: bool
    failing: Collection[int]


def begun(cells: Iterable[CellEnded]) -> dict[tuple[int, str, str], set[int]]:
    """By run, job and cell, the tests whose break begins in that run and shows in that cell; `cells` come run by run,
    in the order of ancestry.

    A test is broken until each cell in which it failed has passed it since. Cells that did not run say nothing.
    """
    shows: dict[tuple[str, int], set[str]] = {}  # by job and test, the cells of its break
    found: dict[tuple[int, str, str], set[int]] = {}
    for mine in _by_run(cells):
        before = {name for name, where in shows.items() if where}
        for cell in mine:
            for (job, test), where in shows.items():
                if job == cell.job and test not in cell.failing:
                    where.discard(cell.key)
            for test in cell.failing:
                shows.setdefault((cell.job, test), set()).add(cell.key)
            began = {t for t in cell.failing if (cell.job, t) not in before}
            if cell.new and began:
                found[cell.run, cell.job, cell.key] = began
        shows = {name: where for name, where in shows.items() if where}
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
