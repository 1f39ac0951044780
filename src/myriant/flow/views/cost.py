"""What a project's runs cost: by day, event and class of machine, beside its budget."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, date, datetime, time, timedelta

from sqlalchemy.orm import Session

from myriant.core.trends.cost import LOOKED_BACK, forecast, is_nearly_spent, said_of_budget
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.cost import Spent, prices, saved_since, spent_since
from myriant.store.tables import Project

UNNAMED = "no class named"


@dataclass(frozen=True, slots=True)
class DayCost:
    day: date
    minutes: float


@dataclass(frozen=True, slots=True)
class PartCost:
    """Minutes of this month that one event, or one class of machine, took."""

    name: str
    minutes: float
    cost: float  # in the currency of the runners' prices
    attempts: int
    budget: int | None = None  # of an event: minutes a month
    said: str = ""  # how it stands beside that
    nearly_spent: bool = False


@dataclass(frozen=True, slots=True)
class ForecastView:
    middle: float
    low: float
    high: float


@dataclass(frozen=True, slots=True)
class Cost:
    said: str
    minutes: float  # this month, UTC
    cost: float
    budget: int | None  # minutes a month
    nearly_spent: bool
    forecast: ForecastView | None
    saved: float  # minutes of this month that were not taken, for the same content had an answer
    days: list[DayCost]  # eight weeks, oldest first
    events: list[PartCost]
    classes: list[PartCost]


def cost_of(site: Site, name: str, now: datetime | None = None) -> Cost:
    """What a project's runs cost this month, and in the eight weeks before. Raises NotFound."""
    with site.store.view() as session:
        return _cost(session, the_project(session, name), now or datetime.now(UTC))


def _cost(session: Session, project: Project, now: datetime) -> Cost:
    today = now.astimezone(UTC).date()
    month = datetime.combine(today.replace(day=1), time(), UTC)
    spent = spent_since(session, project.id, min(month, datetime.combine(today - LOOKED_BACK, time(), UTC)))
    price = prices(session)
    by_day: dict[date, float] = {}
    for s in spent:
        by_day[s.day] = by_day.get(s.day, 0.0) + s.minutes
    mine = [s for s in spent if s.day >= month.date()]
    minutes = sum(s.minutes for s in mine)
    coming = forecast(by_day, today)
    cost = sum(s.minutes * price.get(s.runner, ("", 0.0))[1] for s in mine)
    days = [today - timedelta(days=n) for n in range(LOOKED_BACK.days, -1, -1)]

    def part(named: Callable[[Spent], str]) -> list[PartCost]:
        return _parts(mine, named, price)

    return Cost(
        said_of_budget(minutes, project.budget, coming),
        minutes,
        cost,
        project.budget,
        is_nearly_spent(minutes, project.budget, coming),
        ForecastView(coming.middle, coming.low, coming.high) if coming is not None else None,
        saved_since(session, project.id, month),
        [DayCost(d, by_day.get(d, 0.0)) for d in days],
        _events(project, part(lambda s: s.event), spent, today),
        part(lambda s: price.get(s.runner, ("", 0.0))[0] or UNNAMED),
    )


def _events(project: Project, parts: list[PartCost], spent: Sequence[Spent], today: date) -> list[PartCost]:
    """Each event beside its own budget; one that has a budget stands there also before anything of it ran."""
    budgets: dict[str, int] = project.event_budgets
    known = {p.name for p in parts}
    told = []
    for part in [*parts, *(PartCost(event, 0.0, 0.0, 0) for event in sorted(set(budgets) - known))]:
        budget = budgets.get(part.name)
        if budget is None:
            told.append(part)
            continue
        by_day: dict[date, float] = {}
        for s in spent:
            if s.event == part.name:
                by_day[s.day] = by_day.get(s.day, 0.0) + s.minutes
        coming = forecast(by_day, today)
        said = said_of_budget(part.minutes, budget, coming)
        told.append(replace(part, budget=budget, said=said, nearly_spent=is_nearly_spent(part.minutes, budget, coming)))
    return told


def _parts(
    spent: Sequence[Spent], named: Callable[[Spent], str], price: dict[str, tuple[str, float]]
) -> list[PartCost]:
    rows: dict[str, list[Spent]] = {}
    for s in spent:
        rows.setdefault(named(s), []).append(s)
    made = [
        PartCost(
            name,
            sum(s.minutes for s in some),
            sum(s.minutes * price.get(s.runner, ("", 0.0))[1] for s in some),
            sum(s.attempts for s in some),
        )
        for name, some in rows.items()
    ]
    return sorted(made, key=lambda p: -p.minutes)


def cost_table(site: Site, name: str) -> str:
    """By day, event and runner as CSV: the eight weeks before now. Raises NotFound."""
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["day", "event", "runner", "class", "minutes", "cost", "attempts"])
    with site.store.view() as session:
        project, price = the_project(session, name), prices(session)
        for s in sorted(
            spent_since(session, project.id, datetime.now(UTC) - LOOKED_BACK), key=lambda s: (s.day, s.event)
        ):
            kind, each = price.get(s.runner, ("", 0.0))
            runner = f"'{s.runner}" if s.runner[:1] in ("=", "+", "-", "@") else s.runner
            writer.writerow([s.day, s.event, runner, kind, f"{s.minutes:.3f}", f"{s.minutes * each:.4f}", s.attempts])
    return out.getvalue()


@dataclass(frozen=True, slots=True)
class Nearly:
    """A budget that somebody should look at: of a project, or of one event of it."""

    project: str
    event: str  # empty: of all of it
    said: str


def budgets_nearly_spent(session: Session, projects: Sequence[Project], now: datetime) -> list[Nearly]:
    """The budgets that are nearly spent, or will be, with how they stand."""
    found: list[Nearly] = []
    for project in projects:
        if not project.budget and not project.event_budgets:
            continue
        cost = _cost(session, project, now)
        if cost.nearly_spent:
            found.append(Nearly(project.name, "", cost.said))
        found += [Nearly(project.name, e.name, f"{e.name}: {e.said}") for e in cost.events if e.nearly_spent]
    return found
