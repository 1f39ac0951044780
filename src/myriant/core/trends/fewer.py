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
NIGHT = 2  # o'clock, UTC
_DRAWS = 100
_DRAWN = 20  # orders of each break
Found = NDArray[np.bool_]  # breaks × cells: which newly failed


@dataclass(frozen=True, slots=True)
class Step:
    """One cell more: what it and those before it find together, and take."""

    values: Mapping[str, str]
    found: int  # breaks, in the run that brought them
    seconds: float  # of runners, of a run with these cells
    late: int = 0  # breaks that a night with every cell would have seen after that run
    over: int = 0  # breaks that were over before that night: it would not have seen them
    hours: float | None = None  # from the run to the night, of the late ones: the median
    saved: float = 0.0  # share of all seconds of runners, the nights counted


@dataclass(frozen=True, slots=True)
class Way:
    """A usual way to choose fewer cells."""

    name: str
    cells: int
    found: float  # breaks; a mean where the cells are drawn by chance
    seconds: float


@dataclass(frozen=True, slots=True)
class Order:
    """A way to order the cells of a run: when the first failure is known, one cell after another."""

    name: str
    seconds: float  # the median over breaks


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
    orders: list[Order]
    checked: Checked | None


def fewer(cells: Iterable[CellTotal], job: str, at: Mapping[int, float]) -> Fewer | None:
    """The past of a job's binding cells replayed with fewer of them; None where too little is known.

    Each step takes the cell that finds most further breaks in its mean seconds (the greedy cover: Wolsey 1982). A break
    that no chosen cell shows is missed in its run; a night with every cell, at `NIGHT` UTC, sees it when the newest run
    before that night still failed there. `at`: when runs were made, in seconds since 1970.
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
    ended = np.array([[mine[n].failed or mine[n].ended_failed for n in names] for mine in whole.values()], bool)
    made = np.array([at[run] for run in whole], np.float64)
    values = [dict(by_run[max(whole)][n].values) for n in names]
    steps: list[Step] = []
    chosen = np.zeros(len(names), bool)
    for place in _greedy(found, seconds):
        chosen[place] = True
        late, over, hours = _nights(found, ended, np.flatnonzero(broken), made, chosen)
        taken = float(seconds[chosen].sum())
        nights = len(np.unique(_night_after(made)))
        whole_cost = len(whole) * float(seconds.sum())
        saved = 1 - (len(whole) * taken + nights * float(seconds[~chosen].sum())) / whole_cost if whole_cost else 0.0
        at_once = int(found[:, chosen].any(axis=1).sum())
        steps.append(Step(values[place], at_once, taken, late, over, hours, saved))
    return Fewer(
        job,
        len(names),
        len(whole),
        len(found),
        float(seconds.sum()),
        steps,
        _ways(values, found, seconds),
        _orders(found, seconds),
        _checked(found, seconds, numbers),
    )


def _night_after(made: NDArray[np.float64]) -> NDArray[np.float64]:
    """The first night after each moment, in seconds since 1970."""
    day = 86_400.0
    return (np.floor((made - NIGHT * 3600) / day) + 1) * day + NIGHT * 3600


def _nights(
    found: Found, ended: Found, places: NDArray[np.int64], made: NDArray[np.float64], chosen: NDArray[np.bool_]
) -> tuple[int, int, float | None]:
    """Of the breaks that no chosen cell shows: seen the night after, over before it, and the hours until then.

    `ended`: runs × cells that failed, newly or as before; `places`: which of these runs are breaks.
    """
    hidden = np.flatnonzero(~found[:, chosen].any(axis=1))
    night = _night_after(made)
    waits: list[float] = []
    for i in hidden.tolist():
        run = int(places[i])
        newest = int(np.flatnonzero(made <= night[run]).max())  # the night tests what is there then
        if bool((ended[newest] & found[i]).any()):  # in none of the chosen: none of them shows this break
            waits.append(float(night[run] - made[run]) / 3600)
    return len(waits), len(hidden) - len(waits), float(np.median(waits)) if waits else None


def _orders(found: Found, seconds: NDArray[np.float64]) -> list[Order]:
    """Each break replayed with the cells one after another; an order knows only the breaks before."""
    if not len(found):
        return []
    cells = len(seconds)
    luck = np.random.default_rng(len(found))
    told: dict[str, list[float]] = {
        n: []
        for n in (
            "by chance",
            "the shortest first",
            "those that failed last first",
            "those that found most in their time first",
        )
    }
    last = np.full(cells, -1)
    finds = np.zeros(cells)
    cost = np.maximum(seconds, 1e-3)

    def until(order: NDArray[np.int64], row: NDArray[np.bool_]) -> float:
        return float(np.cumsum(seconds[order])[int(np.argmax(row[order]))])

    for i, row in enumerate(found):
        told["by chance"].append(float(np.mean([until(luck.permutation(cells), row) for _ in range(_DRAWN)])))
        told["the shortest first"].append(until(np.argsort(cost, kind="stable"), row))
        told["those that failed last first"].append(until(np.lexsort((cost, -last)), row))
        most = np.argsort(-(finds + 0.5) / cost, kind="stable")
        told["those that found most in their time first"].append(until(most, row))
        last[row] = i
        finds += row
    return [Order(name, float(np.median(times))) for name, times in told.items()]


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
