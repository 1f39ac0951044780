"""What a month of runs costs, and what it will have cost at its end."""

from __future__ import annotations

from calendar import monthrange
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np

LOOKED_BACK = timedelta(weeks=8)
LEAST_DAYS = 7  # that were seen before anything is foretold
SURE = 0.8  # of the interval
_DRAWS = 4000


@dataclass(frozen=True, slots=True)
class Forecast:
    """Minutes at the end of a month: the middle, and where they lie four times in five."""

    middle: float
    low: float
    high: float


def forecast(minutes: Mapping[date, float], today: date) -> Forecast | None:
    """What the month of `today` will have cost, by what days of its weekdays cost before; None with too few of them.

    A bootstrap: each day that is left is drawn from the same weekdays of the eight weeks
    before (Efron 1979). Days on which nothing ran count as nothing. A week that is unlike those before is not foreseen.
    """
    begin = today.replace(day=1)
    first = min((d for d in minutes if d < today), default=today)
    since = max(first, today - LOOKED_BACK)
    past = [since + timedelta(days=n) for n in range((today - since).days)]
    if len(past) < LEAST_DAYS:
        return None
    spent = sum(m for d, m in minutes.items() if begin <= d <= today)
    last = today.replace(day=monthrange(today.year, today.month)[1])
    left = [today + timedelta(days=n) for n in range(1, (last - today).days + 1)]
    luck = np.random.default_rng(today.toordinal())
    totals = np.full(_DRAWS, spent, dtype=np.float64)
    for day in left:
        same = [minutes.get(d, 0.0) for d in past if d.weekday() == day.weekday()]
        totals += luck.choice(np.asarray(same or [minutes.get(d, 0.0) for d in past]), size=_DRAWS)
    beyond = (1 - SURE) / 2
    low, middle, high = np.quantile(totals, [beyond, 0.5, 1 - beyond])
    return Forecast(float(middle), float(low), float(high))


def said_of_budget(spent: float, budget: int | None, coming: Forecast | None) -> str:
    """How a month stands beside its budget, in words."""
    so_far = f"{_minutes(spent)} min so far this month"
    if coming is not None and coming.high - spent >= 1:
        so_far += f", about {coming.middle:,.0f} ({coming.low:,.0f} to {coming.high:,.0f}) at its end"
    if not budget:
        return f"{so_far}."
    share = spent / budget
    if share >= 1:
        return f"{so_far}, more than the {budget:,} of the budget."
    if coming is not None and coming.low > budget:
        return f"{so_far}; it will be more than the {budget:,} of the budget."
    if coming is not None and coming.middle > budget:
        return f"{so_far}, likely more than the {budget:,} of the budget."
    return f"{so_far}, {share * 100:.0f} % of the {budget:,} of the budget."


def _minutes(spent: float) -> str:
    """Whole ones where there are many: 0 % of nothing and 4 % of "0 min" are not the same."""
    if 0 < spent < 0.05:
        return "less than 0.1"
    return f"{spent:,.0f}" if spent == 0 or spent >= 9.95 else f"{spent:.1f}"


def is_nearly_spent(spent: float, budget: int | None, coming: Forecast | None) -> bool:
    """Whether somebody should look at a budget: four fifths are spent, or it is likely to be overdrawn."""
    if not budget:
        return False
    return spent >= 0.8 * budget or (coming is not None and coming.middle > budget)
