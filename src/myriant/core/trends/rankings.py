"""Where effort would pay most: tests that hold runs, that always fail together, that are slow; files that break."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Collection, Hashable, Mapping, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np
from numpy.typing import NDArray
from scipy import special

Cell = TypeVar("Cell", bound=Hashable)
TAIL = 0.05
LEAST_BROKE = 2


@dataclass(frozen=True, slots=True)
class FailureCount:
    """In how many runs a test failed, how many of those were held, and how often it began to fail."""

    test: int
    runs: int
    held: int
    began: int


def counts_of_failures(failing: Sequence[Collection[int]], held: Sequence[bool]) -> list[FailureCount]:
    """Of runs in their order, the oldest first: `failing` tests and whether the run was held; most held runs first."""
    runs: dict[int, int] = defaultdict(int)
    held_runs: dict[int, int] = defaultdict(int)
    began: dict[int, int] = defaultdict(int)
    before: Collection[int] = ()
    for tests, is_held in zip(failing, held, strict=True):
        for test in tests:
            runs[test] += 1
            held_runs[test] += is_held
            began[test] += test not in before
        before = tests
    rows = [FailureCount(t, n, held_runs[t], began[t]) for t, n in runs.items()]
    return sorted(rows, key=lambda c: (-c.held, -c.began, -c.runs, c.test))


@dataclass(frozen=True, slots=True)
class Together:
    """Tests that failed in the very same runs."""

    tests: list[int]
    runs: int


def together(failing: Sequence[Collection[int]], least: int = 3) -> list[Together]:
    """Groups of tests that failed in the same runs, at least so many of them, and in no other; the largest first."""
    seen: dict[int, list[int]] = defaultdict(list)
    for run, tests in enumerate(failing):
        for test in tests:
            seen[test].append(run)
    groups: dict[tuple[int, ...], list[int]] = defaultdict(list)
    for test, runs in seen.items():
        if len(runs) >= least:
            groups[tuple(runs)].append(test)
    found = [Together(sorted(tests), len(runs)) for runs, tests in groups.items() if len(tests) > 1]
    return sorted(found, key=lambda t: (-len(t.tests) * t.runs, t.tests))


SLOW_FROM = 0.01  # seconds in all cells together


@dataclass(frozen=True, slots=True)
class Slow:
    """Seconds that a test takes in all cells together, and what the run would be shorter without it."""

    test: int
    seconds: float
    gain: float


def slow_tests(seconds: Mapping[Cell, NDArray[np.float64]], whole: Mapping[Cell, float], most: int = 20) -> list[Slow]:
    """The slowest tests of a run. `seconds` are by cell and test number (NaN: none there), `whole` those of each cell.

    The run is as long as its longest cell: what a test takes in the others makes it no shorter. Below ten milliseconds
    in all cells together nothing is slow.
    """
    size = max((len(s) for s in seconds.values()), default=0)
    total, after = np.zeros(size), np.full(size, 0.0)
    longest = max(whole.values(), default=0.0)
    for cell, taken in seconds.items():
        mine = np.zeros(size)
        mine[: len(taken)] = np.nan_to_num(taken)
        total += mine
        after = np.maximum(after, np.maximum(0.0, whole[cell] - mine))
    for cell in whole.keys() - seconds.keys():
        after = np.maximum(after, whole[cell])
    order = np.argsort(-total, kind="stable")[:most]
    return [Slow(int(t), float(total[t]), float(longest - after[t])) for t in order if total[t] >= SLOW_FROM]


Path = TypeVar("Path", bound=Hashable)


@dataclass(frozen=True, slots=True)
class Risky(Generic[Path]):
    """A file: how many changes of it broke something, of how many; `low`: at least this share does (95 % sure)."""

    path: Path
    broke: int
    changes: int
    low: float


def risky_files(changes: Sequence[tuple[Collection[Path], bool]], most: int = 20) -> list[Risky[Path]]:
    """Files whose changes break more often than others do here, as far as the numbers are sure of it.

    `changes` are the files of each push, and whether it broke something. A file is named where pushes with it broke so
    often by chance once in twenty such tables at most (Fisher's exact test, one-sided, for as many files as are
    looked at). Pushes with a file that is named say nothing of the others. `low` is the exact lower end of a binomial
    share (Clopper and Pearson, Biometrika 26, 1934).
    """
    left = [(set(files), broke) for files, broke in changes]
    found: list[Risky[Path]] = []
    asked = sum(n >= LEAST_BROKE for _, n in _by_file(left).values())
    while len(found) < most:
        broken, pushes = sum(broke for _, broke in left), len(left)
        tails = {
            path: chance_of(broke, n, broken, pushes)
            for path, (broke, n) in _by_file(left).items()
            if broke >= LEAST_BROKE
        }
        worst = min(tails, key=lambda p: (tails[p], str(p)), default=None)
        if worst is None or tails[worst] * asked > TAIL:
            break
        broke, n = _by_file(left)[worst]
        found.append(Risky(worst, broke, n, float(special.betaincinv(broke, n - broke + 1, TAIL))))
        left = [(files, broke) for files, broke in left if worst not in files]
    return found


def _by_file(changes: Sequence[tuple[Collection[Path], bool]]) -> dict[Path, tuple[int, int]]:
    """By file, how many of its pushes broke something, and how many there are."""
    count: dict[Path, tuple[int, int]] = {}
    for files, broke in changes:
        for path in files:
            before = count.get(path, (0, 0))
            count[path] = (before[0] + broke, before[1] + 1)
    return count


def chance_of(broke: int, n: int, broken: int, pushes: int) -> float:
    """The chance that at least `broke` of `n` pushes, drawn from `pushes` of which `broken` broke, are such ones."""
    every = math.comb(pushes, n)
    ways = sum(math.comb(broken, k) * math.comb(pushes - broken, n - k) for k in range(broke, min(n, broken) + 1))
    return ways / every
