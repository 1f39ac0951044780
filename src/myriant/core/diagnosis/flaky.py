"""When a test is called flaky, and when it may leave quarantine.

With a Beta prior over the rate of odd outcomes (Gelman et al., "Bayesian Data Analysis", 3rd ed., 2.4 and 5.3) the
posterior after `odd` of `tries` is Beta(a + odd, b + tries - odd).
"""

from __future__ import annotations

from scipy import special

WIDTH = 0.9  # of an interval of a rate
FLAKY_FROM = 0.01  # a rate from which a test is called flaky
SURE = 0.95
STEADY_BELOW = 0.02  # a rate below which it may leave quarantine


def is_steady(odd: int, tries: int) -> bool:
    """Whether the rate since quarantine began is below 2 % with 95 % certainty (uniform prior): 148 passes in a row."""
    return odd == 0 and bool(special.betainc(1 + odd, 1 + tries - odd, STEADY_BELOW) >= SURE)
