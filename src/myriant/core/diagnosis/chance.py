"""Whether a test fails by chance, since when, where, and how often: all of its results weighed at once.

Two explanations are compared by the evidence for each (marginal likelihood; Kass and Raftery 1995). *Steady*: in a cell
the test fails or passes, and only commits turn it, in all cells, in those of one value, or in some others, each with
its own cost; two answers of one commit in one cell hardly happen. *By chance*: along some stretch of commits, in a
scope (all cells, those of one value, one cell, one runner, some hours of the day), each result fails with one rate
(Beta-Binomial). The stretches are summed over by dynamic programming (as in Fearnhead 2006), so that a rate is judged
from where it began. Runs that fail together count as less (design effect, Kish 1965).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import special

from myriant.core.diagnosis.flaky import FLAKY_FROM, SURE, WIDTH

Numbers = NDArray[np.int64]
Flags = NDArray[np.bool_]
Floats = NDArray[np.float64]

PRIOR = 0.05  # of a test with failures: that it is random
RATES = (0.5, 1.5)  # Beta prior of a random test's rate
_ODD = 7.0  # cost of two answers of one commit in one cell, where nothing is random: one in a thousand
_BREAKS, _MENDS = 3.9, 1.2  # cost of a commit that turns a test: 2 % break one, 30 % mend a broken one
_TURNS = 1.5  # and ln of the commits: cost of a stretch more
_MOST_EDGES = 60
_LEAST_COMMITS = 3  # commits that fail, from which on the hour may say something
_LONGEST_HOURS = 8
_SHARES = {"": 0.5, "cells": 0.25, "runner": 0.15, "hours": 0.1}  # of the prior, by sort of scope
_GRID = np.concatenate((np.linspace(0, 0.02, 101), np.linspace(0.0225, 0.2, 72), np.linspace(0.205, 1, 160)))


@dataclass(frozen=True, slots=True)
class Results:
    """All results of one test, as arrays of one length: the commit, its place in the order of ancestry, the cell,
    whether it failed, whether the commit is on the main line, the runner, the hour of the day (UTC).

    Of commits beside the main line only mixed answers and passes are told: they turn nothing on it.
    """

    commit: Numbers
    at: Numbers
    cell: Numbers
    failed: Flags
    line: Flags
    runner: Numbers
    hour: Numbers


@dataclass(frozen=True, slots=True)
class Chance:
    """What is known of a test's chance.

    `sure` is the probability that it is random at all; `rate` how often it fails where and while it is, with a 90 %
    interval that reaches down to 0 as long as it may be steady; `odd` of `tries` results were failures there. `since`
    is the place of the commit from which on (None: as far back as is known), `now` whether it still is (else results
    are counted from its end); `only` names the scope ("" for everywhere, a selector, `runner NAME`,
    `from 2 to 4 o'clock (UTC)`).
    """

    sure: float
    rate: float
    low: float
    high: float
    odd: int
    tries: int
    since: int | None
    now: bool
    only: str

    @property
    def flaky(self) -> bool:
        """Sure enough to be called so: random, still, at 1 % or more."""
        return self.now and self.odd >= 2 and self.sure >= SURE and self.low >= FLAKY_FROM / 2


@dataclass(frozen=True, slots=True)
class _Scope:
    sort: str
    name: str
    within: Flags  # by result


def judged(told: Results, cells: Sequence[Mapping[str, str]], runners: Sequence[str]) -> Chance:
    """Weigh all results of one test; `cells` give the dimension values of each cell's number."""
    world = _World(told, cells)
    if not told.failed.any():
        return _steady(len(told.failed))
    steady = -float(world.steady(np.zeros(len(told.failed), np.bool_)).whole)
    found: list[tuple[float, _Scope, _Stretches]] = []
    scopes = list(_scopes(told, cells, runners))
    counts = {sort: max(1, sum(s.sort == sort for s in scopes)) for sort in _SHARES}
    counts["hours"] = 24 * _LONGEST_HOURS  # stretches of a day: the one that is looked at was chosen by what failed
    for scope in scopes:
        stretches = _Stretches(world, scope.within)
        weight = math.log(PRIOR * _SHARES[scope.sort] / counts[scope.sort]) + stretches.evidence
        found.append((weight, scope, stretches))
    most = max(w for w, _, _ in found)
    by_chance = most + math.log(sum(math.exp(w - most) for w, _, _ in found))
    sure = float(special.expit(by_chance - steady - math.log1p(-PRIOR)))
    _, scope, stretches = max(found, key=lambda f: f[0])
    return stretches.told(sure, scope)


def _steady(tries: int) -> Chance:
    high = float(special.betaincinv(RATES[0], RATES[1] + tries, WIDTH))
    return Chance(0.0, 0.0, 0.0, high, 0, tries, None, False, "")


def _scopes(told: Results, cells: Sequence[Mapping[str, str]], runners: Sequence[str]) -> Iterator[_Scope]:
    """Where a test may be random; each has a failure, and none is all there is."""
    whole = np.ones(len(told.failed), np.bool_)
    yield _Scope("", "", whole)
    seen = {whole.tobytes()}
    bad = set(told.cell[told.failed].tolist())
    names = [(f"{key}={value}", _of_value(cells, key, value)) for key, value in _values(cells)]
    if len(bad) <= 3:
        names += [(",".join(f"{k}={v}" for k, v in cells[c].items()), frozenset({c})) for c in sorted(bad)]
    picked = [("cells", name, np.isin(told.cell, list(those))) for name, those in names]
    bad_on = set(told.runner[told.failed].tolist()) if len(runners) > 1 else set()
    picked += [("runner", f"runner {runners[runner]}", told.runner == runner) for runner in sorted(bad_on)]
    picked += [("hours", name, within) for name, within in _hours(told)]
    for sort, name, within in picked:
        if within.tobytes() not in seen and (within & told.failed).any():
            seen.add(within.tobytes())
            yield _Scope(sort, name, within)


def _hours(told: Results) -> Iterator[tuple[str, Flags]]:
    """The shortest stretch of the day that holds all failures, where that says something."""
    hours = sorted(set(told.hour[told.failed].tolist()))
    if len(set(told.at[told.failed].tolist())) < _LEAST_COMMITS:
        return
    if len(set(told.hour.tolist())) < 2 * len(hours):
        return
    gaps = [((b - a - 1) % 24 + 1, a, b) for a, b in zip(hours, [*hours[1:], hours[0]], strict=True)]
    _, last, first = max(gaps)
    length = (last - first) % 24 + 1
    if length <= _LONGEST_HOURS:
        yield f"from {first} to {(last + 1) % 24} o'clock (UTC)", (told.hour - first) % 24 < length


def _values(cells: Sequence[Mapping[str, str]]) -> list[tuple[str, str]]:
    return sorted({(key, value) for cell in cells for key, value in cell.items()})


def _of_value(cells: Sequence[Mapping[str, str]], key: str, value: str) -> frozenset[int]:
    return frozenset(i for i, cell in enumerate(cells) if cell.get(key) == value)


@dataclass(frozen=True, slots=True)
class _Cost:
    """Of steadiness, by commit: turning at it, and odd answers of it; both cumulated, with a leading 0."""

    turning: Floats
    odd: Floats

    @property
    def whole(self) -> float:
        return float(self.turning[-1] + self.odd[-1])


class _World:
    """The results by commit and cell."""

    def __init__(self, told: Results, cells: Sequence[Mapping[str, str]]) -> None:
        self.told = told
        self.commits = np.unique(told.at[told.line]) if told.line.any() else np.unique(told.at)
        self.place = np.minimum(np.searchsorted(self.commits, told.at), len(self.commits) - 1)
        self.size = len(cells)
        self.values = np.array(
            [[float(c.get(k) == v) for c in cells] for k, v in _values(cells)] or [[0.0] * self.size], float
        )
        keys = np.stack((told.commit, told.cell))  # what one commit answered in one cell
        _, self.group = np.unique(keys, axis=1, return_inverse=True)
        self.group = self.group.reshape(-1)

    def steady(self, without: Flags) -> _Cost:
        """The cost of taking all results but those for steady."""
        told, kept = self.told, ~without
        n = len(self.commits)
        most = int(self.group.max()) + 1
        bad = np.bincount(self.group[kept & told.failed], minlength=most)
        every = np.bincount(self.group[kept], minlength=most)
        first = np.zeros(most, np.int64)
        first[self.group] = np.arange(len(self.group))
        odd = np.bincount(self.place[first], weights=_ODD * np.minimum(bad, every - bad), minlength=n)
        state = np.full((n, self.size), -1, np.int8)
        here = told.line[first] & (every > 0)
        state[self.place[first[here]], told.cell[first[here]]] = 2 * bad[here] > every[here]
        return _Cost(np.concatenate(([0.0], np.cumsum(self._turning(state)))), np.concatenate(([0.0], np.cumsum(odd))))

    def _turning(self, state: NDArray[np.int8]) -> Floats:
        """By commit, the cost of what turned at it."""
        known = state >= 0
        rows = np.where(known, np.arange(len(state))[:, None], -1)
        last = np.maximum.accumulate(rows, axis=0)
        before = np.full_like(state, -1)
        before[1:] = np.where(last[:-1] >= 0, np.take_along_axis(state, np.maximum(last[:-1], 0), axis=0), -1)
        fails, failed = known & (state == 1), before == 1
        passes, passed = known & (state == 0), before == 0
        up, down = fails & passed, passes & failed
        cost = _spread(up, up | (passes & passed), self.values, _BREAKS)
        return cost + _spread(down, down | (fails & failed), self.values, _MENDS)


def _spread(turned: Flags, could: Flags, values: Floats, once: float) -> Floats:
    """The cost, by commit, of turning these cells of those that could have turned: all, those of a value, or others."""
    some, most = turned.sum(1), could.sum(1)
    of_value = ((turned @ values.T == some[:, None]) & (could @ values.T == some[:, None])).any(1)
    few = np.minimum(some, most - some)
    free = 3 + np.minimum(few * np.log(np.maximum(most, 2)), most * math.log(2))
    spread = np.where(some == most, 0.43, np.where(of_value, 1.2 + math.log(max(len(values), 2)), free))
    found: Floats = np.where(some > 0, once + spread, 0.0)
    return found


class _Stretches:
    """The evidence for chance within a scope, summed over all ways to divide the commits into stretches."""

    def __init__(self, world: _World, within: Flags) -> None:
        told, self.world, self.within = world.told, world, within
        n = len(world.commits)
        # beside the main line a failure without a pass may be that commit's own
        mixed = np.bincount(world.group, weights=~told.failed)[world.group] > 0
        counted = within & (told.line | mixed)
        self.counted = counted
        bad = np.bincount(world.place[counted & told.failed], minlength=n)
        every = np.bincount(world.place[counted], minlength=n)
        self.bad, self.every = np.concatenate(([0], np.cumsum(bad))), np.concatenate(([0], np.cumsum(every)))
        turns = np.flatnonzero(np.diff(np.concatenate(([0], (bad > 0).astype(np.int8), [0]))))
        edges = np.unique(np.concatenate(([0], turns, turns + 1, [n])))
        edges = edges[edges <= n]
        if len(edges) > _MOST_EDGES:
            edges = np.unique(np.concatenate(([0], edges[:: len(edges) // _MOST_EDGES + 1], [n])))
        self.edges = edges
        self._weigh(world.steady(np.zeros(len(told.failed), np.bool_)), world.steady(within))

    def _weigh(self, steady: _Cost, outside: _Cost) -> None:
        low, high = self.edges[:-1], self.edges[1:]
        begin, end = low[:, None], high[None, :]

        def along(cost: _Cost) -> Floats:
            found: Floats = cost.turning[end] - cost.turning[begin] + cost.odd[end] - cost.odd[begin]
            return found

        bad, every = self.bad[end] - self.bad[begin], self.every[end] - self.every[begin]
        flat = special.betaln(*RATES)
        with np.errstate(invalid="ignore"):
            self.random = special.betaln(RATES[0] + bad, RATES[1] + every - bad) - flat - along(outside)
        plain = -along(steady)
        turn = -(math.log(len(self.world.commits) + 1) + _TURNS)
        size = len(low)
        before = np.full(size + 1, -np.inf)  # whatever came before a place, with the turn at it
        before[0] = 0.0
        chance, calm = np.full(size + 1, -np.inf), np.full(size + 1, -np.inf)  # how the last stretch ends there
        for j in range(1, size + 1):
            chance[j] = _sum(before[:j] + self.random[:j, j - 1])
            calm[j] = _sum(chance[1:j] + turn + plain[1:j, j - 1]) if j > 1 else -np.inf
            before[j] = _sum(np.array((chance[j], calm[j], plain[0, j - 1]))) + turn
        self.evidence = float(np.logaddexp(chance[-1], calm[-1]))
        self.last = before[:-1] + self.random[:, -1]  # the last stretch is one of chance, and began here
        self.over = self.edges[int((chance[1:-1] + plain[1:, -1]).argmax()) + 1] if size > 1 else 0  # if it is none

    def told(self, sure: float, scope: _Scope) -> Chance:
        now = math.exp(min(0.0, float(_sum(self.last)) - self.evidence))
        if now < 0.5:  # it was, and is no more
            odd, tries = (int(c[-1] - c[self.over]) for c in (self.bad, self.every))
            calm = _steady(tries)
            return Chance(sure, calm.rate, 0.0, calm.high, odd, tries, None, False, scope.name)
        chances = np.exp(self.last - self.last.max())
        chances /= chances.sum()
        best = int(chances.argmax())
        begun = self.edges[:-1][chances > 0.01]
        weights = chances[chances > 0.01]
        effect = self._together(int(self.edges[best]))
        bad = (self.bad[-1] - self.bad[begun]) / effect
        good = (self.every[-1] - self.every[begun]) / effect - bad
        a, b = 0.5 + bad, 0.5 + good
        below = (special.betainc(a[:, None], b[:, None], _GRID[None, :]) * weights[:, None]).sum(0) / weights.sum()
        calm = special.betainc(RATES[0], RATES[1] + float(self.every[-1]), _GRID)
        below = sure * below + (1 - sure) * calm
        low, high = (float(_GRID[np.searchsorted(below, q)]) for q in ((1 - WIDTH) / 2, (1 + WIDTH) / 2))
        mean = float((weights * a / (a + b)).sum() / weights.sum())
        since = int(self.world.commits[self.edges[best]]) if self.edges[best] > 0 else None
        odd, tries = (int(c[-1] - c[self.edges[best]]) for c in (self.bad, self.every))
        return Chance(sure, mean, min(low, mean), max(high, mean), odd, tries, since, True, scope.name)

    def _together(self, begin: int) -> float:
        """How much less results count because those of one commit fail together."""
        place = self.world.place
        counted = self.counted & (place >= begin)
        bad = np.bincount(place[counted & self.world.told.failed], minlength=len(self.world.commits))[begin:]
        every = np.bincount(place[counted], minlength=len(self.world.commits))[begin:]
        bad, every = bad[every > 0], every[every > 0]
        rate = bad.sum() / max(every.sum(), 1)
        if len(every) < 5 or bad.sum() < 5 or rate >= 1:
            return 1.0
        effect = ((bad - every * rate) ** 2).sum() / (every * rate * (1 - rate)).sum()
        return float(min(max(1.0, effect), every.sum() / len(every)))


def _sum(logs: Floats) -> float:
    most = float(logs.max())
    return most if most == -math.inf else most + math.log(float(np.exp(logs - most).sum()))


def flat(results: Sequence[tuple[int, int, int, bool, bool, int, int]]) -> Results:
    """Results from rows of (commit, place, cell, failed, on the main line, runner, hour)."""
    commit, at, cell, failed, line, runner, hour = np.array(results, np.int64).reshape(-1, 7).T
    return Results(commit, at, cell, failed.astype(bool), line.astype(bool), runner, hour)
