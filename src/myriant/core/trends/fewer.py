"""What fewer cells would have found: any set of a job's cells replayed over its past."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from myriant.core.matrix.sample import sample
from myriant.core.trends.versions import CellTotal

LEAST_RUNS = 20  # with every cell, before anything is said
LEAST_CHECKED = 4  # breaks that a choice is checked with
CHECKED = 1 / 3  # of the breaks, the newest
_DRAWS = 100
Found = NDArray[np.bool_]  # breaks × cells: which newly failed


@dataclass(frozen=True, slots=True)
class Step:
    """One cell more: what it and those before it find together, and take."""

    values: Mapping[str, str]
    found: int  # breaks
    seconds: float  # of runners, of a run with these cells


@dataclass(frozen=True, slots=True)
class Way:
    """A usual way to choose fewer cells."""

    name: str
    cells: int
    found: float  # breaks; a mean where the cells are drawn by chance
    seconds: float


@dataclass(frozen=True, slots=True)
class Checked:
    """The set that finds all of the older breaks, and what it finds of the newer ones, which it has not seen."""

    cells: int
    found: int
    breaks: int
    since: int  # the run of the first of these


@dataclass(frozen=True, slots=True)
class Fewer:
    """What the past of one job says of fewer cells; only runs with every binding cell of today say anything."""

    job: str
    cells: int
    runs: int
    breaks: int  # of these, runs in which some cell newly failed
    seconds: float  # of runners, of a run with all cells
    steps: list[Step]  # until all breaks are found: each time the cell that finds most in its seconds
    ways: list[Way]
    checked: Checked | None


def fewer(cells: Iterable[CellTotal], job: str) -> Fewer | None:
    """The past of a job's binding cells replayed with fewer of them; None where too little is known.

    Each step takes the cell that finds most further breaks in its mean seconds (the greedy cover: Wolsey 1982). A break
    that no chosen cell shows is missed in its run.
    """
    by_run: dict[int, dict[tuple[tuple[str, str], ...], CellTotal]] = {}
    for c in cells:
        if c.job == job and not c.advisory:
            by_run.setdefault(c.run, {})[tuple(sorted(c.values.items()))] = c
    if not by_run:
        return None
    newest = sorted(by_run)[-LEAST_RUNS:]
    names = sorted(by_run[max(newest, key=lambda run: (len(by_run[run]), run))])  # however the cells came
    whole = {run: mine for run, mine in sorted(by_run.items()) if mine.keys() >= set(names)}
    if len(whole) < LEAST_RUNS or len(names) < 2:
        return None
    seconds = np.array([[mine[n].seconds for n in names] for mine in whole.values()]).mean(axis=0)
    failed = np.array([[mine[n].failed for n in names] for mine in whole.values()], bool)
    broken = failed.any(axis=1)
    found = failed[broken]
    numbers = np.array(list(whole))[broken]
    values = [dict(by_run[max(whole)][n].values) for n in names]
    steps: list[Step] = []
    running = np.zeros(len(found), bool)
    for at in _greedy(found, seconds):
        running |= found[:, at]
        taken = seconds[at] + (steps[-1].seconds if steps else 0.0)
        steps.append(Step(values[at], int(running.sum()), float(taken)))
    return Fewer(
        job, len(names), len(whole), len(found), float(seconds.sum()), steps, _ways(values, found, seconds),
        _checked(found, seconds, numbers),
    )  # fmt: skip


def _greedy(found: Found, seconds: NDArray[np.float64]) -> list[int]:
    """Cells until every break is found, those first that find most in their time; equal ones in the plan's order."""
    left = np.ones(len(found), bool)
    chosen: list[int] = []
    cost = np.maximum(seconds, 1e-3)
    while left.any():
        gains = found[left].sum(axis=0) / cost
        at = int(np.argmax(gains))
        if gains[at] <= 0:
            break
        chosen.append(at)
        left &= ~found[:, at]
    return chosen


def _ways(values: Sequence[Mapping[str, str]], found: Found, seconds: NDArray[np.float64]) -> list[Way]:
    dimensions = list(dict.fromkeys(d for v in values for d in v))
    levels = [list(dict.fromkeys(v.get(d, "") for v in values)) for d in dimensions]
    rows = np.array([[levels[i].index(v.get(d, "")) for i, d in enumerate(dimensions)] for v in values], np.int16)
    told = []
    for strength, name in ((1, "each value once"), (2, "each pair of values once")):
        if strength >= len(dimensions):
            continue
        chosen = {tuple(row) for row in sample([len(some) for some in levels], strength, rows).tolist()}
        mask = np.array([tuple(row) in chosen for row in rows.tolist()])
        told.append(Way(name, int(mask.sum()), float(found[:, mask].any(axis=1).sum()), float(seconds[mask].sum())))
        luck = np.random.default_rng(len(found))
        drawn = [luck.permutation(len(values))[: int(mask.sum())] for _ in range(_DRAWS)]
        mean = float(np.mean([found[:, some].any(axis=1).sum() for some in drawn]))
        told.append(Way("as many by chance", int(mask.sum()), mean, float(np.mean([seconds[s].sum() for s in drawn]))))
    return told


def _checked(found: Found, seconds: NDArray[np.float64], numbers: NDArray[np.int64]) -> Checked | None:
    """How a choice does on breaks that came after those by which it was made."""
    newer = int(len(found) * CHECKED)
    if newer < LEAST_CHECKED:
        return None
    older = found[:-newer]
    chosen = _greedy(older, seconds)
    seen = found[-newer:][:, chosen].any(axis=1)
    return Checked(len(chosen), int(seen.sum()), newer, int(numbers[-newer]))
