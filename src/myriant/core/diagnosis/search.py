"""The first bad commit between a good and a bad one, by tries that may err and run side by side.

Probabilistic bisection (Horstein 1963; Waeber, Frazier and Henderson 2013): a posterior over where the change lies is
updated by Bayes' rule after each outcome, and the next tries split it evenly. A commit may be tried again; the search
ends when one commit is the first bad one with the wanted confidence. Without flakiness and with one slot it is plain
bisection.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

CONFIDENCE = 0.97
MISSED = 0.01  # chance that a try of a bad commit passes, when the test is not known to flake
FALSE = 0.005  # chance that a try of a good commit fails
_MOST_TRIES = 400


@dataclass(frozen=True, slots=True)
class Tried:
    """The outcome of one try of the commit at `at`."""

    at: int
    failed: bool


@dataclass(frozen=True, slots=True)
class Chances:
    """How a try may err: a bad commit passes, a good one fails."""

    missed: float = MISSED
    false: float = FALSE


def posterior(commits: int, tried: Sequence[Tried], chances: Chances = Chances()) -> NDArray[np.float64]:
    """For each of `commits` (oldest first; the last one is known to be bad), the chance that it is the first bad
    one.
    """
    log = np.zeros(commits)
    places = np.arange(commits)
    for one in tried:
        bad = places <= one.at  # the tried commit is bad if the first bad one is it or older
        fails = np.where(bad, 1 - chances.missed, chances.false)
        log += np.log(fails if one.failed else 1 - fails)
    weights = np.exp(log - log.max())
    found: NDArray[np.float64] = weights / weights.sum()
    return found


def next_tries(
    commits: int, tried: Sequence[Tried], slots: int, chances: Chances = Chances(), running: Sequence[int] = ()
) -> list[int]:
    """Commits to try now, at most `slots` besides those `running`: those that split the posterior evenly; empty
    when it is settled.
    """
    chance = posterior(commits, tried, chances)
    if commits < 2 or chance.max() >= CONFIDENCE or len(tried) + len(running) >= _MOST_TRIES:
        return []
    below = np.cumsum(chance)[:-1]  # chance that a commit (not the last) is bad
    wanted: list[int] = []
    total = slots + len(running)
    targets = [(i + 1) / (total + 1) for i in range(total)]
    taken = list(running)
    for target in sorted(targets, key=lambda t: abs(t - 0.5)):
        if len(wanted) == slots:
            break
        at = int(np.abs(below - target).argmin())
        if at in taken and not _unsure(below[at]):
            continue
        if taken.count(at) + wanted.count(at) < 2:
            wanted.append(at)
            taken.append(at)
    return wanted or ([] if running else [int(np.abs(below - 0.5).argmin())])


def _unsure(chance: float) -> bool:
    return 0.1 < chance < 0.9


def found(commits: int, tried: Sequence[Tried], chances: Chances = Chances()) -> tuple[int, float]:
    """The most likely first bad commit and its chance."""
    chance = posterior(commits, tried, chances)
    at = int(chance.argmax())
    return at, float(chance[at])


def expected_tries(commits: int, chances: Chances = Chances(), slots: int = 1) -> float:
    """Tries that a search takes on average: its information over that of one try (Shannon), and one to be sure.

    A try tells 1 - H(error) bits; `commits` hold log2(commits) bits, and confidence needs some more. Of several side by
    side, `slots` tell as much as log2(slots + 1) one after the other.
    """
    if commits < 2:
        return 0.0
    error = min(max((chances.missed + chances.false) / 2, 1e-6), 0.49)
    entropy = -error * math.log2(error) - (1 - error) * math.log2(1 - error)
    sure = math.log2(CONFIDENCE / (1 - CONFIDENCE)) / math.log2((1 - error) / error) if error > 1e-4 else 0.0
    return (math.log2(commits) / (1 - entropy) + sure) * slots / math.log2(slots + 1)
