"""A made-up past, written without a look at how it is read: commits, cells, runners, the clock, and faults of many sorts.

Nothing here is shared with the product. What a fault does at a commit, in a cell, on a runner, at an hour is decided
here alone, so every answer of the product about it can be called right or wrong.
"""

from __future__ import annotations

import itertools
import random
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

DIMENSIONS = {"lua": ("5.1", "5.2", "5.3", "5.4"), "database": ("a", "b", "c"), "locale": ("de", "en")}
FILES = [
    f"{folder}/{name}.lua"
    for folder in ("tide", "ledger", "lock")
    for name in ("core", "read", "write", "gauge", "text", "clock", "table")
]
RUNNERS = ("dock", "quay", "pier")
HOUR = 3600.0


@dataclass(frozen=True, slots=True)
class Fault:
    """What is wrong with one test: `rate` of failures where it applies, from commit `start` up to `end` (exclusive)."""

    sort: str  # steady, always, random, hours, order, runner, world
    rate: float = 1.0
    start: int = 0
    end: int = 10**9
    where: tuple[tuple[str, tuple[str, ...]], ...] = ()  # dimension values in which it shows
    runner: str = ""
    hours: tuple[int, int] = (0, 24)
    since: float = 0.0  # seconds, for the world
    file: str = ""

    def holds(self, cell: Mapping[str, str]) -> bool:
        return all(cell[key] in values for key, values in self.where)

    def fails(self, commit: int, cell: Mapping[str, str], runner: str, at: float, rng: random.Random) -> bool:
        if not self.start <= commit < self.end or not self.holds(cell):
            return False
        if self.runner and runner != self.runner:
            return False
        if self.sort == "hours":
            first, last = self.hours
            if not (int(at / HOUR) % 24 - first) % 24 < (last - first) % 24:
                return False
        return at >= self.since and rng.random() < self.rate

    @property
    def by_chance(self) -> bool:
        return self.sort in ("random", "hours", "order", "runner")


@dataclass(frozen=True, slots=True)
class Result:
    commit: int
    cell: int
    runner: int
    at: float
    failed: bool
    signature: str


@dataclass
class Past:
    """Commits 0 … n - 1, of which some had a run, in which every cell ran every test once."""

    seed: int
    commits: int = 80
    sampled: bool = False
    skipped: float = 0.2  # of the commits
    cells: list[dict[str, str]] = field(init=False)
    all_cells: list[dict[str, str]] = field(init=False)
    runs: list[tuple[int, float]] = field(init=False)  # commit and time
    touched: list[tuple[str, ...]] = field(init=False)  # files, by commit

    def __post_init__(self) -> None:
        rng = random.Random(f"past {self.seed}")
        self.all_cells = [dict(zip(DIMENSIONS, v, strict=True)) for v in itertools.product(*DIMENSIONS.values())]
        self.cells = _pairs(self.all_cells, rng) if self.sampled else self.all_cells
        at, self.runs = rng.random() * 24 * HOUR, []
        for commit in range(self.commits):
            at += rng.expovariate(1 / (3 * HOUR)) + 300
            if commit in (0, self.commits - 1) or rng.random() >= self.skipped:
                self.runs.append((commit, at))
        self.touched = [tuple(rng.sample(FILES, rng.choice((1, 1, 2, 3)))) for _ in range(self.commits)]

    def fault(self, sort: str, rng: random.Random) -> Fault:
        """A fault of a sort; those of a commit begin after the first third."""
        start = rng.randrange(self.commits // 3, self.commits)
        where: tuple[tuple[str, tuple[str, ...]], ...] = ()
        if rng.random() < 0.5:
            keys = rng.sample(list(DIMENSIONS), rng.choice((1, 1, 2)))
            where = tuple((k, self._values(k, rng)) for k in keys)
        rate = rng.choice((0.01, 0.02, 0.05, 0.1, 0.25, 0.5))
        file = rng.choice(self.touched[start])
        late = rng.choice((0, start))
        if sort == "always":
            return Fault(sort, 1.0, start, rng.choice((10**9, start + rng.randrange(1, 15))), where, file=file)
        if sort == "random":
            return Fault(sort, rate, late, where=where, file=file)
        if sort == "hours":
            begin = rng.randrange(24)
            return Fault(sort, rng.choice((0.5, 1.0)), hours=(begin, (begin + rng.choice((1, 2, 4))) % 24), file=file)
        if sort == "order":  # one order in so many fails
            return Fault(sort, rng.choice((0.05, 0.2, 0.5)), late, file=file)
        if sort == "runner":
            return Fault(sort, rng.choice((0.3, 1.0)), late, runner=rng.choice(RUNNERS), file=file)
        if sort == "world":
            return Fault(sort, 1.0, where=where, since=rng.choice(self.runs[len(self.runs) // 3 :])[1] - 60, file=file)
        return Fault("steady", 0.0)

    @staticmethod
    def _values(key: str, rng: random.Random) -> tuple[str, ...]:
        values = DIMENSIONS[key]
        if key == "lua" and rng.random() < 0.5:  # from or up to a version
            at = rng.randrange(1, len(values))
            return values[at:] if rng.random() < 0.5 else values[:at]
        return (rng.choice(values),)

    def results(self, faults: Mapping[str, Fault], rng: random.Random, until: int = 10**9) -> list[Result]:
        """What one test gave in all runs up to a commit (inclusive); the first fault that applies signs a failure."""
        found = []
        for commit, at in self.runs:
            if commit > until:
                break
            for number, cell in enumerate(self.cells):
                runner = rng.randrange(len(RUNNERS))
                found.append(self._result(faults, commit, number, cell, runner, at + rng.random() * 600, rng))
        return found

    def again(self, faults: Mapping[str, Fault], commit: int, cell: int, at: float, rng: random.Random) -> Result:
        """One result more, at a time, on whichever runner."""
        return self._result(faults, commit, cell, self.cells[cell], rng.randrange(len(RUNNERS)), at, rng)

    @staticmethod
    def _result(
        faults: Mapping[str, Fault],
        commit: int,
        number: int,
        cell: Mapping[str, str],
        runner: int,
        at: float,
        rng: random.Random,
    ) -> Result:
        signs = [s for s, f in faults.items() if f.fails(commit, cell, RUNNERS[runner], at, rng)]
        return Result(commit, number, runner, at, bool(signs), signs[0] if signs else "")

    def rate(self, faults: Mapping[str, Fault], holds: Callable[[Result], bool], since: int) -> float | None:
        """The true rate of failures by chance of results for which something holds: drawn anew, many times."""
        rng, bad, every = random.Random(1), 0, 0
        chance = {s: f for s, f in faults.items() if f.by_chance}
        for _ in range(12):
            for r in self.results(chance, rng):
                if r.commit >= since and holds(r):
                    bad, every = bad + r.failed, every + 1
        return bad / every if every else None


def _pairs(cells: list[dict[str, str]], rng: random.Random) -> list[dict[str, str]]:
    """Cells, at random, until every two values of different dimensions have met."""
    left = {frozenset(pair) for c in cells for pair in itertools.combinations(c.items(), 2)}
    found: list[dict[str, str]] = []
    order = rng.sample(cells, len(cells))
    while left:
        cell = max(order, key=lambda c: sum(frozenset(p) in left for p in itertools.combinations(c.items(), 2)))
        found.append(cell)
        left -= {frozenset(p) for p in itertools.combinations(cell.items(), 2)}
    return found
