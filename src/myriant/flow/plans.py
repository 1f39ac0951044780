"""The plan of a run, read once for each text."""

from __future__ import annotations

from functools import lru_cache
from threading import Lock

from cachetools import LRUCache, cached
from sqlalchemy.orm import Session

from myriant.core.plan.asked import asked
from myriant.core.plan.intent import Event
from myriant.core.plan.model import Job, Plan
from myriant.core.plan.read import read_plan
from myriant.core.plan.selectors import Selector, SelectorError, parse_selector
from myriant.core.states import EventKind
from myriant.flow.errors import BadInput
from myriant.store.plans import plan_text
from myriant.store.tables import Run

_MOST_READ = 256


@lru_cache(maxsize=64)
def plan_of(text: str | None) -> Plan | None:
    """The plan that a text says, None when it cannot be used."""
    return read_plan((text or "").encode()).plan


def plan_with(session: Session, digest: str | None) -> Plan | None:
    """The plan of a digest, None when there is none that can be used."""
    return _read(session, digest) if digest is not None else None


@cached(LRUCache[str, Plan | None](_MOST_READ), key=lambda session, digest: digest, lock=Lock())
def _read(session: Session, digest: str) -> Plan | None:
    return read_plan(plan_text(session, digest).encode()).plan


def plan_of_run(session: Session, run: Run) -> Plan | None:
    """The plan that a run is made by, None when it has none that can be used.

    A pull request is asked what its target's plan asks; its own says how, and what more.
    """
    own = plan_with(session, run.plan_digest)
    target = plan_with(session, run.asked_digest)
    if own is None or target is None or run.asked_digest == run.plan_digest:
        return own
    return _asked((run.asked_digest or "", run.plan_digest or ""), target, own)


@cached(LRUCache[tuple[str, str], Plan](_MOST_READ), key=lambda digests, target, own: digests, lock=Lock())
def _asked(digests: tuple[str, str], target: Plan, own: Plan) -> Plan:
    return asked(target, own)


def names_of_jobs(session: Session, run: Run) -> dict[str, tuple[str, ...]]:
    """By job of a run's plan, the names that it goes by in earlier runs: its own first, then its former ones."""
    plan = plan_of_run(session, run)
    return {job.id: (job.id, *job.formerly) for job in plan.jobs} if plan is not None else {}


def job_of(session: Session, run: Run, job: str) -> Job:
    found = plan_of_run(session, run)
    if found is None:
        raise BadInput("the run's plan cannot be read any more")
    return found.job(job)


def told_to(job: Job, run: Run, commit: str = "") -> dict[str, str]:
    """What of the event a job asked to be told; the commit is that which is tested unless another is given."""
    every = {
        "event": str(run.event),
        "branch": run.branch,
        "tag": run.tag,
        "commit": commit or run.tested or run.commit,
        "pull-request": str(run.pull_request) if run.pull_request is not None else "",
    }
    return {name: every[name] for name in job.all_told}


def event_of(run: Run, changed: tuple[str, ...] | None = None) -> Event:
    """The event that made a run happen."""
    cells: Selector | None = None
    if run.wish.cells:
        try:
            cells = parse_selector(run.wish.cells)
        except SelectorError:
            cells = None
    schedule = run.context.removeprefix("schedule ") if run.event == EventKind.SCHEDULE else ""
    return Event(run.event, run.branch, run.source, run.tag, schedule, changed, run.wish.jobs, cells)
