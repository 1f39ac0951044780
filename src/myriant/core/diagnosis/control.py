"""What repeating a failure says: the change did it, the world, or chance; or that more repeats are wanted.

A posterior over four explanations. The change: it fails here and passes on the baseline. The world: it fails on both
today. Chance as before: it fails at times on any commit, at a rate that its past bounds. Chance since this change: it
fails at times here, and passes on the baseline; at what rate is not known. Rates are integrated over Beta priors.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

from scipy import special

CONFIDENCE = 0.95
MOST_REPEATS = 4  # of one cell, here and on the baseline
_ERR = 0.005  # chance that a steady test answers otherwise
_PRIOR = {"change": 0.67, "world": 0.1, "as before": 0.13, "since": 0.1}
_RANDOM = 0.6  # of "as before", for a test that is known to be random
_NEW = (0.6, 1.2)  # Beta prior of the rate of a test that has just begun to be random
_OLD = (0.5, 3.0)
_ALL, _OTHER = 0.6, 0.02  # of what is steady: fails in every cell, in cells that nothing explains
_PARTS = {1: 0.3, 2: 0.07, 3: 0.01}  # in those of so many conditions at once


@dataclass(frozen=True, slots=True)
class Tries:
    """How often a test passed and failed; where it is not there, it did neither."""

    passed: int = 0
    failed: int = 0

    @property
    def all(self) -> int:
        return self.passed + self.failed


@dataclass(frozen=True, slots=True)
class Answer:
    """`said` is change, world, chance, or unsure while none of them is 95 % certain."""

    said: str
    certainty: float
    here: Tries
    baseline: Tries
    absent: bool = False  # the baseline has no such test: it says nothing, however often it is asked


@lru_cache(maxsize=50_000)
def answer(
    here: Tries, baseline: Tries, run: Tries, parts: int, values: int, past: Tries, random: float = 0.0
) -> Answer:
    """From repeats here and on the baseline, the cells of the run itself, and the test's past on the main line.

    `parts` is how many conditions together hold for just the cells in which it failed (0: none do), `values` how many
    dimension values there are to choose from; `random` the chance, from its past, that the test is random already.
    """
    before = _PRIOR["as before"] + (_RANDOM - _PRIOR["as before"]) * random
    rest = (1 - before) / (1 - _PRIOR["as before"])
    logs = {name: math.log(before if name == "as before" else p * rest) for name, p in _PRIOR.items()}
    shape = _shape(run, parts, values)
    logs["change"] += shape + _steady(here, fails=True) + _steady(baseline, fails=False)
    logs["world"] += shape + _steady(here, fails=True) + _steady(baseline, fails=True)
    every = Tries(here.passed + run.passed + baseline.passed, here.failed + run.failed + baseline.failed)
    logs["as before"] += _by_chance(every, _OLD[0] + past.failed, _OLD[1] + past.passed)
    mine = Tries(here.passed + run.passed, here.failed + run.failed)
    logs["since"] += _by_chance(mine, *_NEW) + _steady(baseline, fails=False)
    most = max(logs.values())
    whole = sum(math.exp(v - most) for v in logs.values())
    shares = {name: math.exp(v - most) / whole for name, v in logs.items()}
    found = {
        "change": shares["change"],
        "world": shares["world"],
        "chance": shares["as before"] + shares["since"],
    }
    best = max(found, key=lambda name: found[name])
    said = best if found[best] >= CONFIDENCE and here.all else "unsure"
    return Answer(said, found[best], here, baseline)


def wanted(found: Answer) -> tuple[bool, bool]:
    """Whether another repeat is wanted here, and one on the baseline."""
    if found.said != "unsure":
        return False, False
    here = found.here.all < MOST_REPEATS
    return here, not found.absent and found.baseline.all < (MOST_REPEATS if found.baseline.failed else 1)


def _steady(tries: Tries, *, fails: bool) -> float:
    odd = tries.passed if fails else tries.failed
    return odd * math.log(_ERR) + (tries.all - odd) * math.log1p(-_ERR)


def _by_chance(tries: Tries, a: float, b: float) -> float:
    return float(special.betaln(a + tries.failed, b + tries.passed) - special.betaln(a, b))


def _shape(run: Tries, parts: int, values: int) -> float:
    """The chance that a steady failure shows in just these cells."""
    if not run.passed:
        return math.log(_ALL)
    if parts:
        return math.log(_PARTS[parts]) - parts * math.log(max(values, 2))
    return math.log(_OTHER) - run.all * math.log(2)
