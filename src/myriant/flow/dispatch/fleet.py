"""The fleet: runners come, leave, are drained and forgotten."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from myriant.core.plan.versions import offered_names
from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.flow.state.attempts import lose
from myriant.store.attempts import open_leases_of
from myriant.store.changes import ring_runners, tell
from myriant.store.runners import enrol_runner, runner_named
from myriant.store.tables import Runner


def enrol(
    site: Site,
    name: str,
    slots: int,
    runtimes: list[dict[str, str]],
    isolation: str,
    version: str,
    boot: str,
    labels: Collection[str] = (),
    price: float = 0.0,
    machine: Mapping[str, str] | None = None,
    projects: Sequence[int] | None = None,
) -> int:
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
        "name": name,
        "slots": slots,
        "runtimes": runtimes,
        "offers": offers,
        "isolation": isolation,
        "version": version,
        "boot": boot,
        "price": price,
        "labels": sorted(labels),
        "machine": dict(machine or {}),
        "projects": list(projects) if projects is not None else None,
    }
    with site.store.transaction() as session:
        before = runner_named(session, name)
        if before is not None and before.boot != boot:
            values["troubles"] = 0
            for attempt in open_leases_of(session, before.id):
                lose(session, attempt, f"runner {name} was started anew")
        runner_id = enrol_runner(session, values)
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
        runner = runner_named(session, name, lock=True)
        if runner is None:
            raise NotFound(f"there is no runner {name[:80]}")
        runner.drained, runner.troubles = reason, 0
        ring_runners(session)
        tell(session, "runner")


def forget_runner(site: Site, name: str) -> None:
    """Take a runner that is gone off the list. Raises NotFound."""
    with site.store.transaction() as session:
        runner = runner_named(session, name, lock=True)
        if runner is None:
            raise NotFound(f"there is no runner {name[:80]}")
        for attempt in open_leases_of(session, runner.id):
            lose(session, attempt, f"runner {name} was taken off the list")
        session.delete(runner)
        tell(session, "runner")
