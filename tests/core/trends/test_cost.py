"""What a month costs: the forecast beside worlds that were not made to fit it, and what is said of a budget."""

from __future__ import annotations

from datetime import date, timedelta

import numpy as np
import pytest

from myriant.core.trends.cost import SURE, Forecast, forecast, is_nearly_spent, said_of_budget

TODAY = date(2026, 11, 12)
END = date(2026, 11, 30)


def world(seed: int, kind: str) -> dict[date, float]:
    """Minutes of each day from 100 days before today to the month's end."""
    luck = np.random.default_rng(seed)
    days = [TODAY - timedelta(days=100) + timedelta(days=n) for n in range(100 + (END - TODAY).days + 1)]
    base = luck.uniform(20, 400)

    def minutes(d: date) -> float:
        busy = 0.15 if d.weekday() > 4 else 1.0
        if kind == "bursts":
            return float(base * busy * luck.lognormal(0, 0.8))
        if kind == "runs":
            return float(luck.poisson(6 * busy) * luck.uniform(5, 30))
        return float(base * busy * luck.normal(1, 0.15))

    return {d: max(0.0, minutes(d)) for d in days}


@pytest.mark.parametrize("kind", ["steady", "bursts", "runs"])
def test_the_interval_holds_about_as_often_as_it_says(kind: str) -> None:
    held = []
    for seed in range(120):
        truth = world(seed, kind)
        known = {d: m for d, m in truth.items() if d <= TODAY}
        told = forecast(known, TODAY)
        assert told is not None and told.low <= told.middle <= told.high
        total = sum(m for d, m in truth.items() if d >= TODAY.replace(day=1))
        held.append(told.low <= total <= told.high)
    assert SURE - 0.16 <= sum(held) / len(held) <= SURE + 0.16, sum(held) / len(held)


@pytest.mark.parametrize(
    ("known", "told"),
    [
        ({}, None),
        ({TODAY - timedelta(days=6): 5.0}, None),
        ({TODAY - timedelta(days=n): 10.0 for n in range(60)}, Forecast(300.0, 300.0, 300.0)),
        ({TODAY - timedelta(days=n): 0.0 for n in range(60)}, Forecast(0.0, 0.0, 0.0)),
    ],
)
def test_nothing_is_foretold_from_too_little(known: dict[date, float], told: Forecast | None) -> None:
    assert forecast(known, TODAY) == told


FEW = Forecast(500.0, 450.0, 560.0)


@pytest.mark.parametrize(
    ("spent", "budget", "coming", "said", "near"),
    [
        (120.4, None, None, "120 min so far this month.", False),
        (0.0, 40, None, "0 min so far this month, 0 % of the 40 of the budget.", False),
        (0.04, 1, None, "less than 0.1 min so far this month, 4 % of the 1 of the budget.", False),
        (2.06, None, None, "2.1 min so far this month.", False),
        (120.0, None, FEW, "120 min so far this month, about 500 (450 to 560) at its end.", False),
        (
            120.0,
            1000,
            FEW,
            "120 min so far this month, about 500 (450 to 560) at its end, 12 % of the 1,000 of the budget.",
            False,
        ),
        (800.0, 1000, None, "800 min so far this month, 80 % of the 1,000 of the budget.", True),
        (1000.0, 1000, None, "1,000 min so far this month, more than the 1,000 of the budget.", True),
        (
            120.0,
            480,
            FEW,
            "120 min so far this month, about 500 (450 to 560) at its end, likely more than the 480 of the budget.",
            True,
        ),
        (
            120.0,
            400,
            FEW,
            "120 min so far this month, about 500 (450 to 560) at its end; it will be more than the 400 of the budget.",
            True,
        ),
    ],
)
def test_a_budget_is_said_beside_what_was_spent(
    spent: float, budget: int | None, coming: Forecast | None, said: str, near: bool
) -> None:
    assert said_of_budget(spent, budget, coming) == said and is_nearly_spent(spent, budget, coming) is near
