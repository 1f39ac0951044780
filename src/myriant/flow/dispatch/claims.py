"""Claims: a runner with free slots is given the cells whose turn it is."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from threading import Lock
from typing import Any

from cachetools import LRUCache, TTLCache, cached
from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.plan.intent import steps_for
from myriant.core.plan.model import Job
from myriant.core.plan.origins import Origin, origins
from myriant.core.states import Place, State, Why
from myriant.flow.compare.aside import aside_in, may_set_aside, statuses_of
from myriant.flow.compare.grants import lacking, names_wanted
from myriant.flow.compare.supply import supply
from myriant.flow.dispatch.secrets import values_for
from myriant.flow.errors import NotFound, Replaced
from myriant.flow.handed_over import HandedFile, handed_to
from myriant.flow.plans import event_of, plan_of_run, told_to
from myriant.flow.site import Site
from myriant.flow.state import cells, controls
from myriant.flow.state.advance import advance
from myriant.flow.state.attempts import lose
from myriant.flow.state.leases import LEASE, lease_digest
from myriant.repos.git import GitError
from myriant.repos.neutral_commit import made_up_commit
from myriant.store.aside import keys_of_tests
from myriant.store.attempts import leased, lowest_attempt
from myriant.store.cells import running_beside
from myriant.store.changes import tell_of_run
from myriant.store.claims import Asking, Takeable, give_cells, hear_of, takeable_cells
from myriant.store.controls import waiting_controls
from myriant.store.judged import job_results_of
from myriant.store.plans import plan_text
from myriant.store.tables import Attempt, Cell, Project, Run

SPARE = 4  # cells looked at beyond the free slots, for those that are passed over


@dataclass(frozen=True, slots=True)
class Lease:
    """One attempt given to a runner, with all it has to know."""

    attempt_id: int
    token: str
    project: str
    project_id: int
    run: int
    number: int
    commit: str
    before: str
    values: Mapping[str, str]
    wants: list[str]
    job: Job
    skipped: list[str]  # by step: why it does not run in this cell, empty when it does
    handed: list[HandedFile]
    secrets: Mapping[str, str] = field(default_factory=dict, repr=False)
    origins: Mapping[str, list[Origin]] = field(default_factory=dict)
    address: str = ""  # of the repository when others can reach it
    told: Mapping[str, str] = field(default_factory=dict)  # of the event, what the job asked to be told
    aside: list[str] = field(default_factory=list)  # keys of tests whose failures hold nothing
    statuses: Mapping[str, list[int]] = field(default_factory=dict)  # by step: how it ended when tests failed


def claim(site: Site, runner_id: int, boot: str, free: int, holding: Collection[int]) -> list[Lease]:
    """Give a runner with `free` slots the cells it can take, those whose turn it is first, then control runs.

    `boot` tells the start of the runner that asks: a request of one that was killed gets nothing. A lease
    that the runner does not hold was lost on its way there, and is taken back. Raises Replaced.
    """
    with site.store.transaction() as session:
        runner = hear_of(session, runner_id)
        if runner is None:
            raise NotFound("this runner is not enrolled", "start it again: myriant runner")
        if runner.boot != boot:
            raise Replaced(
                f"another runner called {runner.name} was started", "give each runner a name of its own: --name"
            )
        unheld = {attempt for attempt in runner.leases if attempt not in holding}
        for attempt in leased(session, unheld) if unheld else ():
            if attempt.state == State.RUNNING:
                lose(session, attempt, "the lease did not reach the runner")
        if runner.drained:
            return []
        leases = _give(site, session, runner, _chosen(session, runner, free))
        if len(leases) < free:
            leases += _control_leases(site, session, runner, free - len(leases))
    return leases


def _chosen(session: Session, runner: Asking, free: int) -> list[tuple[Takeable, Run, Job]]:
    """The cells that a runner is given, with their runs and jobs."""
    found: list[tuple[Takeable, Run, Job]] = []
    taken: dict[tuple[int, str], int] = {}
    for cell in takeable_cells(session, runner.offers, free + SPARE, runner.projects):
        if len(found) >= free:
            break
        if cell.void_on == runner.id and _better_elsewhere(session, cell, runner):
            continue
        group = (cell.run_id, cell.job)
        beside = taken.get(group, 0)
        if cell.at_once is not None and running_beside(session, *group) + beside >= cell.at_once:
            continue
        run = session.get_one(Run, cell.run_id)
        plan = plan_of_run(session, run)
        job = plan.find(cell.job) if plan is not None else None
        missing = lacking(session, run, job) if job is not None else "the run's plan cannot be read any more"
        if job is None or missing:
            _cannot_run(session, run, cell.cell_id, missing)
            continue
        found.append((cell, run, job))
        taken[group] = beside + 1
    return found


def _better_elsewhere(session: Session, cell: Takeable, runner: Asking) -> bool:
    """Whether another runner could take a cell whose last attempt went void on this one."""
    others = [o for o in supply(session).runners if o.name != runner.name and not o.drained]
    return any(o.takes(cell.wants, cell.project_id) for o in others)


def _cannot_run(session: Session, run: Run, cell_id: int, reason: str) -> None:
    cell = session.get_one(Cell, cell_id)
    cells.void(cell, Why.SECRET, reason)
    session.flush()
    session.refresh(run, with_for_update=True)
    advance(session, run, plan_of_run(session, run), cell)
    tell_of_run(session, run, "cell")


def _give(site: Site, session: Session, runner: Asking, chosen: list[tuple[Takeable, Run, Job]]) -> list[Lease]:
    if not chosen:
        return []
    tokens = [secrets.token_urlsafe(24) for _ in chosen]
    attempts = give_cells(session, runner, [c for c, _, _ in chosen], [lease_digest(t) for t in tokens], LEASE)
    return [
        Lease(
            attempts[c.cell_id],
            token,
            c.project,
            c.project_id,
            c.number,
            c.attempts + 1,
            _commit_for(site, c.project_id, job, c.commit),
            c.before,
            address=c.address if "://" in c.address else "",
            **_told(site, session, run, job, c.cell_id, c.values, c.wants, c.commit),
        )
        for (c, run, job), token in zip(chosen, tokens, strict=True)
    ]


def _commit_for(site: Site, project_id: int, job: Job, commit: str) -> str:
    """The commit that a runner fetches: the true one where the job is told it, else one made up for the same tree."""
    return commit if "commit" in job.all_told else _made_up(site.mirrors / f"{project_id}.git", commit)


@cached(TTLCache[tuple[Path, str], str](1024, ttl=30), lock=Lock())  # a run has many cells
def _made_up(mirror: Path, commit: str) -> str:
    try:
        return made_up_commit(mirror, f"{commit}^{{tree}}")
    except GitError:
        return commit  # it cannot be fetched, which the attempt says


def _baseline(session: Session, run: Run, job: str) -> Run | None:
    """The run that a job of another one is compared with."""
    result = job_results_of(session, run.id).get(job)
    return session.get(Run, result.baseline_id) if result is not None and result.baseline_id else None


def _told(
    site: Site,
    session: Session,
    run: Run,
    job: Job,
    cell_id: int,
    values: Mapping[str, str],
    wants: list[str],
    commit: str,
) -> dict[str, Any]:
    """What a lease says of a cell, whoever repeats it and where."""
    return {
        "values": values,
        "wants": wants,
        "job": job,
        "told": told_to(job, run, commit),
        **_set_aside(session, run, job, cell_id),
        "skipped": [why for _, why in steps_for(job, values, event_of(run))],
        "handed": handed_to(session, run, job) if job.after or job.takes else [],
        "secrets": values_for(site, session, run, job) if names_wanted(job) else {},
        "origins": _origins(session, run, job),
    }


def _set_aside(session: Session, run: Run, job: Job, cell_id: int) -> dict[str, Any]:
    """Tests whose failures hold nothing in this cell; asked for only where a step could tell."""
    if not any(c.tests for step in job.steps for c in step.collect) or not may_set_aside(session, run, job):
        return {}
    aside = aside_in(session, run, session.get_one(Cell, cell_id))
    steps = [s.name for s in job.steps if any(c.tests for c in s.collect)]
    return {
        "aside": keys_of_tests(session, run.project_id, job.id, aside.tests),
        "statuses": {name: sorted(statuses_of(session, run, job.id, name)) for name in steps},
    }


@cached(
    LRUCache[tuple[str | None, str], Mapping[str, list[Origin]]](1024),
    key=lambda session, run, job: (run.plan_digest, job.id),
    lock=Lock(),
)
def _origins(session: Session, run: Run, job: Job) -> Mapping[str, list[Origin]]:
    """Where the plan sets the variables of a job, read once for each text and job."""
    return origins(plan_text(session, run.plan_digest), job)


def _control_leases(site: Site, session: Session, runner: Asking, free: int) -> list[Lease]:
    """Control runs for slots that nothing else wants."""
    leases: list[Lease] = []
    for control, cell, run in waiting_controls(session, runner.offers, runner.projects):
        if len(leases) >= free:
            break
        base = _baseline(session, run, cell.job) if control.place == Place.BASELINE else None
        plan = plan_of_run(session, base or run)
        job = plan.find(cell.job) if plan is not None else None
        if job is None or lacking(session, run, job):
            controls.give_up(control)
            continue
        token = secrets.token_urlsafe(24)
        attempt = Attempt(
            cell_id=cell.id,
            number=lowest_attempt(session, cell.id) - 1,
            state=State.RUNNING,
            runner=runner.name,
            runner_id=runner.id,
            lease_digest=lease_digest(token),
            lease_until=func.now() + LEASE,
        )
        session.add(attempt)
        session.flush()
        controls.begin(control, attempt)
        project = session.get_one(Project, run.project_id)
        tell_of_run(session, run, "cell")
        leases.append(
            Lease(
                attempt.id,
                token,
                project.name,
                project.id,
                run.number,
                attempt.number,
                _commit_for(site, project.id, job, control.commit),
                run.base or run.before or "",
                address=project.address if "://" in project.address else "",
                **_told(site, session, run, job, cell.id, cell.values, cell.wants, control.commit),
            )
        )
    return leases
