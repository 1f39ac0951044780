"""Runners: what they offer, and what their slots did of late."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from myriant.core.states import State
from myriant.flow.compare.supply import IN_TOUCH
from myriant.flow.site import Site
from myriant.store.attempts import busy_since
from myriant.store.projects import all_projects
from myriant.store.runners import all_runners

HOUR = timedelta(hours=1)


@dataclass(frozen=True, slots=True)
class RuntimeView:
    family: str
    version: str
    path: str


@dataclass(frozen=True, slots=True)
class Busy:
    """A stretch of time in which one slot had an attempt."""

    slot: int
    project: str
    run: int
    job: str
    key: str
    attempt: int
    state: str
    control: bool
    started_at: datetime
    ended_at: datetime | None


@dataclass(frozen=True, slots=True)
class RunnerView:
    name: str
    slots: int
    busy: int
    runtimes: list[RuntimeView]
    labels: list[str]
    machine: dict[str, str]
    isolation: str
    version: str
    price: float
    drained: str  # why it is given nothing, empty when it is
    seen_at: datetime
    in_touch: bool
    projects: list[str] | None  # whose cells it is given; None: all
    hour: list[Busy]


def runners(site: Site) -> list[RunnerView]:
    """Every runner with the last hour of its slots."""
    now = datetime.now(UTC)
    with site.store.view() as session:
        found = all_runners(session)
        names = {p.id: p.name for p in all_projects(session)}
        rows = busy_since(session, now - HOUR, now - 24 * HOUR)
    hours: dict[int, list[Busy]] = {}
    for attempt, job, key, number, project in rows:
        mine = hours.setdefault(attempt.runner_id or 0, [])
        slot = _free_slot(mine, attempt.created_at)
        mine.append(
            Busy(
                slot,
                project,
                number,
                job,
                key,
                attempt.id,
                attempt.state,
                attempt.number < 0,
                attempt.created_at,
                attempt.ended_at,
            )
        )
    return [
        RunnerView(
            r.name,
            r.slots,
            sum(b.state == State.RUNNING for b in hours.get(r.id, ())),
            [RuntimeView(t["family"], t["version"], t["path"]) for t in r.runtimes],
            r.labels,
            r.machine,
            r.isolation,
            r.version,
            r.price,
            r.drained,
            r.seen_at,
            r.seen_at >= now - IN_TOUCH,
            sorted(names[i] for i in r.projects if i in names) if r.projects is not None else None,
            hours.get(r.id, []),
        )
        for r in found
    ]


def _free_slot(before: list[Busy], at: datetime) -> int:
    """The lowest slot without an attempt at a time; attempts come in the order of their beginnings."""
    taken = {b.slot for b in before if b.ended_at is None or b.ended_at > at}
    return next(i for i in range(len(taken) + 1) if i not in taken)
