"""The fleet: runners come, leave, are drained and forgotten; what they offer and what their slots did of late."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import func, or_, select
from sqlalchemy.dialects.postgresql import insert

from myriant.core.plan.versions import offered_names
from myriant.flow.dispatch import lose
from myriant.flow.errors import NotFound
from myriant.flow.queue import IN_TOUCH
from myriant.flow.site import Site
from myriant.store.changes import ring_runners, tell
from myriant.store.runs import open_leases_of
from myriant.store.tables import Attempt, Cell, Project, Run, Runner

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
    hour: list[Busy]


def runners(site: Site) -> list[RunnerView]:
    """Every runner with the last hour of its slots."""
    now = datetime.now(UTC)
    with site.store.transaction() as session:
        found = session.scalars(select(Runner).order_by(Runner.name)).all()
        rows = session.execute(
            select(Attempt, Cell.job, Cell.key, Run.number, Project.name)
            .join(Cell, Cell.id == Attempt.cell_id)
            .join(Run, Run.id == Cell.run_id)
            .join(Project, Project.id == Run.project_id)
            .where(Attempt.runner_id.is_not(None), or_(Attempt.ended_at.is_(None), Attempt.ended_at > now - HOUR))
            .where(Attempt.created_at > now - 24 * HOUR)
            .order_by(Attempt.created_at)
            .limit(5000)
        ).all()
    hours: dict[int, list[Busy]] = {}
    for attempt, job, key, number, project in rows:
        mine = hours.setdefault(attempt.runner_id or 0, [])
        slot = _free_slot(mine, attempt.created_at)
        mine.append(
            Busy(
                slot, project, number, job, key, attempt.id, attempt.state, attempt.number < 0, attempt.created_at,
                attempt.ended_at,
            )
        )  # fmt: skip
    return [
        RunnerView(
            r.name, r.slots, sum(b.state == "running" for b in hours.get(r.id, ())),
            [RuntimeView(t["family"], t["version"], t["path"]) for t in r.runtimes], r.labels, r.machine, r.isolation,
            r.version, r.price, r.drained, r.seen_at, r.seen_at >= now - IN_TOUCH, hours.get(r.id, []),
        )
        for r in found
    ]  # fmt: skip


def _free_slot(before: list[Busy], at: datetime) -> int:
    """The lowest slot without an attempt at a time; attempts come in the order of their beginnings."""
    taken = {b.slot for b in before if b.ended_at is None or b.ended_at > at}
    return next(i for i in range(len(taken) + 1) if i not in taken)


def enrol(
    site: Site, name: str, slots: int, runtimes: list[dict[str, str]], isolation: str, version: str, boot: str,
    labels: Collection[str] = (), price: float = 0.0, machine: Mapping[str, str] | None = None,
) -> int:  # fmt: skip
    """A runner says what it is and offers; its id. Leases of an earlier start of it are taken back at once."""
    offers = sorted(
        {
            f"{r['family']} {wish}"
            for r in runtimes
            for wish in [*offered_names(r["version"]), *(["system"] if r.get("system") else [])]
        }
        | {f"label {label}" for label in labels}
    )
    values = {
        "name": name, "slots": slots, "runtimes": runtimes, "offers": offers, "isolation": isolation,
        "version": version, "boot": boot, "price": price, "labels": sorted(labels), "machine": dict(machine or {}),
    }  # fmt: skip
    with site.store.transaction() as session:
        before = session.scalar(select(Runner).where(Runner.name == name))
        if before is not None and before.boot != boot:
            values["troubles"] = 0
            for attempt in open_leases_of(session, before.id):
                lose(session, attempt, f"runner {name} was started anew")
        statement = insert(Runner).values(**values)
        update_values = {**values, "seen_at": func.now()}
        runner_id: int | None = session.scalar(
            statement.on_conflict_do_update(index_elements=[Runner.name], set_=update_values).returning(Runner.id)
        )
        assert runner_id is not None
        tell(session, "runner")
    return runner_id


def leave(site: Site, runner_id: int, boot: str) -> None:
    """A runner finishes what it has and takes nothing more, so that another start of its name can take its place."""
    with site.store.transaction() as session:
        runner = session.get(Runner, runner_id, with_for_update=True)
        if runner is not None and runner.boot == boot and not runner.name.endswith(f"~{boot[:6]}"):
            runner.name, runner.drained = f"{runner.name}~{boot[:6]}", "it finishes its work and ends"
            tell(session, "runner")


def drain(site: Site, name: str, reason: str) -> None:
    """Give a runner nothing more until it is resumed; an empty reason resumes it. Raises NotFound."""
    with site.store.transaction() as session:
        runner = session.scalar(select(Runner).where(Runner.name == name).with_for_update())
        if runner is None:
            raise NotFound(f"there is no runner {name[:80]}")
        runner.drained, runner.troubles = reason, 0
        ring_runners(session)
        tell(session, "runner")


def forget_runner(site: Site, name: str) -> None:
    """Take a runner that is gone off the list. Raises NotFound."""
    with site.store.transaction() as session:
        runner = session.scalar(select(Runner).where(Runner.name == name).with_for_update())
        if runner is None:
            raise NotFound(f"there is no runner {name[:80]}")
        for attempt in open_leases_of(session, runner.id):
            lose(session, attempt, f"runner {name} was taken off the list")
        session.delete(runner)
        tell(session, "runner")
