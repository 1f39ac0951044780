"""How often a test flakes: a Beta-Binomial estimate with an interval, and when it may leave quarantine.

A repetition is a further outcome of one test, in one cell, on one commit; an odd one differs from most of its group.
With a Beta prior over the rate (Gelman et al., "Bayesian Data Analysis", 3rd ed., 2.4 and 5.3) the posterior after
`odd` of `tries` is Beta(a + odd, b + tries - odd). The prior is fitted to the project's tests by moments, or Jeffreys'
when they are few.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy import special

JEFFREYS = (0.5, 0.5)
WIDTH = 0.9
FLAKY_FROM = 0.01  # a rate from which a test is called flaky
SURE = 0.95
STEADY_BELOW = 0.02  # a rate below which it may leave quarantine
_FEW = 30


@dataclass(frozen=True, slots=True)
class Rate:
    """The posterior mean and a 90 % interval of a rate of odd outcomes: central, or from 0 when none was odd."""

    mean: float
    low: float
    high: float
    tries: int
    odd: int


def fitted_prior(odd: Sequence[int], tries: Sequence[int]) -> tuple[float, float]:
    """The Beta prior whose Beta-Binomial has the mean and spread of these tests; Jeffreys' when there are fewer
    than 30.
    """
    n = np.asarray(tries, float)
    k = np.asarray(odd, float)[n > 0]
    n = n[n > 0]
    if len(n) < _FEW or k.sum() == 0:
        return JEFFREYS
    mean = float(k.sum() / n.sum())
    between = float((n * (k / n - mean) ** 2).sum() / n.sum())
    expected = mean * (1 - mean)
    size = float(n.sum() ** 2 / (n**2).sum()) if len(n) else 1.0
    average = n.sum() / len(n)
    excess = (between - expected / average) / (1 - 1 / average) if average > 1 else between
    told = 0 < excess < expected and size >= 2
    strength = min(max(expected / excess - 1, 0.2), 50.0) if told else 50.0
    return mean * strength, (1 - mean) * strength


def rate(odd: int, tries: int, prior: tuple[float, float] = JEFFREYS) -> Rate:
    """The rate after `odd` odd outcomes of `tries`."""
    a, b = prior[0] + odd, prior[1] + tries - odd
    if odd:
        low, high = special.betaincinv(a, b, [(1 - WIDTH) / 2, (1 + WIDTH) / 2])
    else:  # a fitted prior may lie close to 0; what was never seen odd keeps the wider of two bounds
        low, high = 0.0, special.betaincinv(np.array([a, JEFFREYS[0]]), np.array([b, JEFFREYS[1] + tries]), WIDTH).max()
    return Rate(a / (a + b), float(low), float(high), tries, odd)


def is_flaky(odd: int, tries: int, prior: tuple[float, float] = JEFFREYS) -> bool:
    """Whether the rate is at least 1 % with 95 % certainty, on at least two odd outcomes."""
    return odd >= 2 and bool(1 - special.betainc(prior[0] + odd, prior[1] + tries - odd, FLAKY_FROM) >= SURE)


def is_steady(odd: int, tries: int) -> bool:
    """Whether the rate since quarantine began is below 2 % with 95 % certainty (uniform prior): 148 passes in a row."""
    return odd == 0 and bool(special.betainc(1 + odd, 1 + tries - odd, STEADY_BELOW) >= SURE)
