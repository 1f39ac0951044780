"""Sampling: covering arrays, that is, few rows in which every combination of `strength` values occurs.

One row at a time, always one that covers many uncovered tuples, after Cohen, Dalal, Fredman and Patton, IEEE
Transactions on Software Engineering 23(7), 1997; rows are improved
coordinate by coordinate as in Colbourn, Cohen and Turban, "A deterministic density algorithm for pairwise
interaction coverage", 2004, and rows are then saved by a local search with a short memory as in Nurmela, "Upper
bounds for covering arrays by tabu search", Discrete Applied Mathematics 138, 2004. Small matrices are chosen from
cell by cell, which takes any constraint. Two-valued dimensions at strength 2 have an optimal construction: Kleitman
and Spencer, "Families of k-independent sets", Discrete Mathematics 6, 1973. All randomness is seeded: the same
matrix gives the same rows.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from math import comb, prod

import numpy as np
import numpy.typing as npt

Rows = npt.NDArray[np.int16]  # one row a cell, one column a dimension, values by index
MOST_LISTED = 20_000  # matrices up to this size are chosen from cell by cell
_BUDGET = 40_000_000  # tuples looked at: about a second
_MEMORY = 6  # changes for which a row is left alone


@dataclass(frozen=True, slots=True)
class BlindSpots:
    """Combinations of one value more than the strength that no chosen cell has."""

    size: int  # values in a combination
    missed: int
    possible: int
    examples: tuple[tuple[tuple[int, int], ...], ...]  # pairs of dimension and value index


class _Tuples:
    """All tuples of `strength` values as one flat array; each dimension has one more level, "not set"."""

    def __init__(self, levels: Sequence[int], strength: int) -> None:
        self.levels = np.array(levels, np.int64)
        self.combos = np.array(list(itertools.combinations(range(len(levels)), strength)), np.int64).reshape(
            -1, strength
        )
        wide = self.levels[self.combos] + 1
        self.strides = np.ones_like(wide)
        for j in range(strength - 2, -1, -1):
            self.strides[:, j] = self.strides[:, j + 1] * wide[:, j + 1]
        sizes = wide.prod(axis=1)
        self.offsets = np.concatenate([[0], np.cumsum(sizes)[:-1]])
        self.uncovered = np.zeros(int(sizes.sum()), np.uint8)
        self.containing = [np.argwhere(self.combos == f) for f in range(len(levels))]

    def places(self, rows: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
        """Where the tuples of each row stand: rows × combinations."""
        return np.asarray(self.offsets + (rows[:, self.combos] * self.strides).sum(axis=2))

    def demand_all(self) -> None:
        for combo, offset, strides in zip(self.combos, self.offsets, self.strides, strict=True):
            grids = np.ix_(*(np.arange(self.levels[f]) * s for f, s in zip(combo, strides, strict=True)))
            self.uncovered[offset + np.sum(np.broadcast_arrays(*grids), axis=0).ravel()] = 1

    def demand(self, rows: npt.NDArray[np.int64]) -> None:
        for part in np.array_split(rows, max(1, len(rows) * len(self.combos) // 2_000_000)):
            self.uncovered[self.places(part).ravel()] = 1

    def cover(self, row: npt.NDArray[np.int64]) -> None:
        self.uncovered[self.places(row[None, :])[0]] = 0


def sample(levels: Sequence[int], strength: int, allowed: Rows | None = None, keep: Rows | None = None) -> Rows:
    """Rows that cover every tuple of `strength` values that some allowed row has.

    `allowed` lists the rows to choose from (None: every combination). Rows of `keep` are kept as long as they
    cover something that no other kept one does; they stand first. With fewer dimensions than the strength every
    allowed row is needed.
    """
    levels = [int(n) for n in levels]
    if strength >= len(levels) or not levels or (allowed is not None and len(allowed) == 0):
        return _listed(levels) if allowed is None else allowed  # every combination may be dropped
    kept = np.zeros((0, len(levels)), np.int64) if keep is None else keep.astype(np.int64)
    if allowed is None and prod(levels) <= MOST_LISTED:
        allowed = _listed(levels)
    if allowed is None and len(kept) == 0 and strength == 2 and max(levels) == 2:
        return _two_valued(len(levels))
    best: npt.NDArray[np.int64] | None = None
    for attempt in range(_tries(levels, strength, allowed)):
        found = (
            _built(levels, strength, kept, attempt)
            if allowed is None
            else _chosen(levels, strength, allowed.astype(np.int64), kept, attempt)
        )
        if best is None or len(found) < len(best):
            best = found
    assert best is not None
    return best.astype(np.int16)


def _tries(levels: Sequence[int], strength: int, allowed: Rows | None) -> int:
    """How often it is tried anew with other ties: as often as fits into a second."""
    combos = comb(len(levels), strength)
    if allowed is None:
        return 1
    work = combos * len(allowed) * max(1, prod(sorted(levels)[-strength:]))
    return int(np.clip(_BUDGET // max(1, work), 1, 30))


def _listed(levels: Sequence[int]) -> Rows:
    return np.array(list(itertools.product(*(range(n) for n in levels))), np.int16).reshape(-1, len(levels))


def _kept_first(tuples: _Tuples, kept: npt.NDArray[np.int64]) -> list[npt.NDArray[np.int64]]:
    """Those of the kept rows that cover something beside the others; they are covered afterwards."""
    if not len(kept):
        return []
    places = tuples.places(kept)
    wanted = tuples.uncovered[places].astype(bool)
    times = np.bincount(places[wanted], minlength=len(tuples.uncovered))
    rows: list[npt.NDArray[np.int64]] = []
    for i in range(len(kept) - 1, -1, -1):  # the newest goes first
        mine = places[i][wanted[i]]
        if len(mine) and (times[mine] == 1).any():
            rows.insert(0, kept[i])
        else:
            times[mine] -= 1
    for row in rows:
        tuples.cover(row)
    return rows


def _chosen(
    levels: Sequence[int], strength: int, allowed: npt.NDArray[np.int64], kept: npt.NDArray[np.int64], attempt: int
) -> npt.NDArray[np.int64]:
    """Choose from a list: always a cell that covers most, ties by a seeded order."""
    tuples = _Tuples(levels, strength)
    tuples.demand(allowed)
    rows = _kept_first(tuples, kept)
    order = np.random.default_rng(attempt).permutation(len(allowed))
    places = tuples.places(allowed[order]).astype(np.int32)
    gains = tuples.uncovered[places].sum(axis=1, dtype=np.int32)
    where = np.argsort(places, axis=None, kind="stable")
    bounds = np.searchsorted(places.ravel()[where], np.arange(len(tuples.uncovered) + 1))
    width = places.shape[1]
    while True:
        best = int(np.argmax(gains))
        if gains[best] == 0:
            return _without_spare(tuples, levels, strength, np.array(rows, np.int64), len(kept), allowed)
        row = allowed[order[best]]
        rows.append(row)
        fresh = places[best][tuples.uncovered[places[best]] == 1]
        tuples.cover(row)
        for place in fresh:
            gains[where[bounds[place] : bounds[place + 1]] // width] -= 1


def _without_spare(
    tuples: _Tuples,
    levels: Sequence[int],
    strength: int,
    rows: npt.NDArray[np.int64],
    kept: int,
    allowed: npt.NDArray[np.int64],
) -> npt.NDArray[np.int64]:
    """Take out rows that the others make superfluous; kept ones stay."""
    if not len(rows):
        return rows.reshape(0, len(levels))
    places = tuples.places(rows)
    times = np.bincount(places.ravel(), minlength=len(tuples.uncovered))
    stay = np.ones(len(rows), bool)
    for i in range(len(rows)):
        if (times[places[i]] > 1).all() and i >= kept:
            stay[i] = False
            times[places[i]] -= 1
    return rows[stay]


def _built(levels: Sequence[int], strength: int, kept: npt.NDArray[np.int64], attempt: int) -> npt.NDArray[np.int64]:
    """Build rows value by value: some candidates side by side, each improved, the best taken."""
    tuples = _Tuples(levels, strength)
    tuples.demand_all()
    rows = _kept_first(tuples, kept)
    random = np.random.default_rng(attempt)
    count = 32
    unset = np.array(levels, np.int64)
    while True:
        left = np.flatnonzero(tuples.uncovered)
        if not len(left):
            return _shortened(tuples, np.array(rows, np.int64), len(kept), random)
        candidates = np.tile(unset, (count, 1))
        for i, place in enumerate(random.choice(left, count)):
            combo = int(np.searchsorted(tuples.offsets, place, "right")) - 1
            rest = place - tuples.offsets[combo]
            for f, stride in zip(tuples.combos[combo], tuples.strides[combo], strict=True):
                candidates[i, f], rest = rest // stride, rest % stride
        seeded = candidates.copy()
        for sweep in range(3):
            changed = False
            for f in random.permutation(len(levels)):
                gains = _gains(tuples, candidates, int(f))
                value = (gains + random.random(gains.shape) * 0.5).argmax(axis=1)
                if sweep == 0:
                    value = np.where(seeded[:, f] < levels[f], seeded[:, f], value)
                changed = changed or bool((value != candidates[:, f]).any())
                candidates[:, f] = value
            if not changed:
                break
        best = int(tuples.uncovered[tuples.places(candidates)].sum(axis=1, dtype=np.int64).argmax())
        rows.append(candidates[best])
        tuples.cover(candidates[best])


def _gains(tuples: _Tuples, candidates: npt.NDArray[np.int64], f: int) -> npt.NDArray[np.int64]:
    """For each candidate and each value of dimension `f`: how many uncovered tuples it would cover."""
    combos, slots = tuples.containing[f][:, 0], tuples.containing[f][:, 1]
    own = tuples.strides[combos, slots]
    base = tuples.offsets[combos] + (candidates[:, tuples.combos[combos]] * tuples.strides[combos]).sum(axis=2)
    base -= candidates[:, f][:, None] * own
    values = np.arange(tuples.levels[f])
    return np.asarray(tuples.uncovered[base[:, None, :] + values[None, :, None] * own].sum(axis=2, dtype=np.int64))


def _shortened(
    tuples: _Tuples, rows: npt.NDArray[np.int64], kept: int, random: np.random.Generator
) -> npt.NDArray[np.int64]:
    """Save rows: take one out, and place what only it covered in the others, losing as little as can be."""
    best, budget = rows, float(_BUDGET)
    while len(rows) > kept + 1:
        places = tuples.places(rows)
        times = np.bincount(places.ravel(), minlength=len(tuples.uncovered))
        alone = (times[places] == 1).sum(axis=1)
        alone[:kept] = times.size
        out = int(alone.argmin())
        times[places[out]] -= 1
        missing = places[out][times[places[out]] == 0]
        rows, places = np.delete(rows, out, axis=0), np.delete(places, out, axis=0)
        rested = np.full(len(rows), -_MEMORY)
        rested[:kept] = 1 << 40
        step = 0
        while len(missing) and budget > 0:
            place = int(random.choice(missing))
            combo = int(np.searchsorted(tuples.offsets, place, "right")) - 1
            rest, touched = place - tuples.offsets[combo], []
            changed = rows.copy()
            for f, stride in zip(tuples.combos[combo], tuples.strides[combo], strict=True):
                changed[:, f], rest = rest // stride, rest % stride
                touched.append(tuples.containing[int(f)][:, 0])
            affected = np.unique(np.concatenate(touched))
            after = tuples.offsets[affected] + (changed[:, tuples.combos[affected]] * tuples.strides[affected]).sum(
                axis=2
            )
            before = places[:, affected]
            differs = after != before
            net = ((times[after] == 0) & differs).sum(axis=1) - ((times[before] == 1) & differs).sum(axis=1)
            budget -= 6 * after.size + 8000  # each step costs something however small it is
            score = net + random.random(len(rows)) * 0.5
            score[rested > step - _MEMORY] = -np.inf
            row = int(score.argmax())
            if np.isinf(score[row]):
                return best
            times[before[row]] -= 1
            times[after[row]] += 1
            rows[row], places[row, affected], rested[row] = changed[row], after[row], step
            step += 1
            lost = before[row][times[before[row]] == 0]
            missing = np.concatenate([missing[times[missing] == 0], np.setdiff1d(lost, missing)])
        if len(missing):
            return best
        best = rows.copy()
    return best


def _two_valued(columns: int) -> Rows:
    """Columns are different halves of the rows, all with the first row in them."""
    size = 4
    while comb(size - 1, size // 2) < columns:
        size += 1
    rows = np.zeros((size, columns), np.int16)
    halves = itertools.combinations(range(1, size), (size + 1) // 2)
    for column, half in enumerate(itertools.islice(halves, columns)):
        rows[list(half), column] = 1
    return rows


def blind_spots(levels: Sequence[int], rows: Rows, allowed: Rows, size: int, most: int = 5) -> BlindSpots | None:
    """Combinations of `size` values that allowed cells have and `rows` do not; None with fewer dimensions."""
    if size > len(levels):
        return None
    tuples = _Tuples(levels, size)
    tuples.demand(allowed.astype(np.int64))
    possible = int(tuples.uncovered.sum())
    for row in rows.astype(np.int64):
        tuples.cover(row)
    missed = np.flatnonzero(tuples.uncovered)
    examples = []
    for place in missed[:most]:
        combo = int(np.searchsorted(tuples.offsets, place, "right")) - 1
        rest, example = int(place - tuples.offsets[combo]), []
        for f, stride in zip(tuples.combos[combo], tuples.strides[combo], strict=True):
            example.append((int(f), rest // int(stride)))
            rest %= int(stride)
        examples.append(tuple(example))
    return BlindSpots(size, len(missed), possible, tuple(examples))
