"""The plan of a run, read once for each text."""

from __future__ import annotations

from functools import lru_cache

from myriant.core.plan.intent import Event
from myriant.core.plan.model import Job, Plan
from myriant.core.plan.read import read_plan
from myriant.core.plan.selectors import Selector, SelectorError, parse_selector
from myriant.flow.errors import BadInput
from myriant.store.tables import Run


@lru_cache(maxsize=256)
def plan_of(text: str | None) -> Plan | None:
    """The plan that a run keeps, None when it has none that can be used."""
    return read_plan((text or "").encode()).plan


def event_of(run: Run, changed: tuple[str, ...] | None = None) -> Event:
    """The event that made a run happen."""
    cells: Selector | None = None
    if run.wish.get("cells"):
        try:
            cells = parse_selector(run.wish["cells"])
        except SelectorError:
            cells = None
    schedule = run.purpose.removeprefix("schedule ") if run.event == "schedule" else ""
    return Event(run.event, run.branch, run.source, run.tag, schedule, changed, tuple(run.wish.get("jobs", ())), cells)


def job_of(plan: str, job_id: str) -> Job:
    found = plan_of(plan)
    if found is None:
        raise BadInput("the run's plan cannot be read any more")
    return found.job(job_id)
