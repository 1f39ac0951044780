"""Claims: a runner with free slots is given the cells whose turn it is."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.plan.intent import steps_for
from myriant.core.plan.model import Job
from myriant.core.plan.origins import Origin, origins
from myriant.flow.dispatch.handing import HandedFile, handed_to
from myriant.flow.dispatch.leases import LEASE, lease_digest
from myriant.flow.dispatch.secrets import values_for
from myriant.flow.dispatch.supply import supply
from myriant.flow.errors import NotFound, Replaced
from myriant.flow.planning.grants import lacking
from myriant.flow.plans import event_of, job_of, plan_of
from myriant.flow.site import Site
from myriant.flow.state.advance import advance
from myriant.flow.state.attempts import lose
from myriant.store.changes import tell
from myriant.store.controls import waiting_controls
from myriant.store.runs import open_leases_of, running_beside, waiting_cells
from myriant.store.tables import Attempt, Cell, Project, Run, Runner

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
    branch: str
    event: str
    tag: str
    values: dict[str, str]
    wants: list[str]
    job: Job
    skipped: list[str]  # by step: why it does not run in this cell, empty when it does
    handed: list[HandedFile]
    secrets: Mapping[str, str] = field(default_factory=dict, repr=False)
    origins: dict[str, list[Origin]] = field(default_factory=dict)
    address: str = ""  # of the repository when others can reach it


def claim(site: Site, runner_id: int, boot: str, free: int, holding: Collection[int]) -> list[Lease]:
    """Give a runner with `free` slots the cells it can take, those whose turn it is first, then control runs.

    `boot` tells the start of the runner that asks: a request of one that was killed gets nothing. A lease
    that the runner does not hold was lost on its way there, and is taken back. Raises Replaced.
    """
    with site.store.transaction() as session:
        runner = session.get(Runner, runner_id)
        if runner is None:
            raise NotFound("this runner is not enrolled", "start it again: myriant runner")
        if runner.boot != boot:
            raise Replaced(
                f"another runner called {runner.name} was started", "give each runner a name of its own: --name"
            )
        runner.seen_at = func.now()
        for attempt in open_leases_of(session, runner_id):
            if attempt.id not in holding:
                lose(session, attempt, "the lease did not reach the runner")
        if runner.drained:
            return []
        leases: list[Lease] = []
        for cell in waiting_cells(session, runner.offers, free + SPARE):
            if len(leases) >= free:
                break
            if _better_elsewhere(session, cell, runner):
                continue
            if cell.at_once is not None and running_beside(session, cell) >= cell.at_once:
                continue
            run = session.get_one(Run, cell.run_id)
            job = job_of(run.plan or "", cell.job)
            missing = lacking(session, run, job)
            if missing:
                _cannot_run(session, run, cell, missing)
                continue
            leases.append(_lease(site, session, runner, cell, run, job))
            session.flush()
        if len(leases) < free:
            leases += _control_leases(site, session, runner, free - len(leases))
    return leases


def _better_elsewhere(session: Session, cell: Cell, runner: Runner) -> bool:
    """Whether a cell whose last attempt went void on this runner waits for another one that could take it."""
    if cell.attempt_id is None:
        return False
    last = session.get(Attempt, cell.attempt_id)
    if last is None or last.state != "void" or last.runner_id != runner.id:
        return False
    others = [o for o in supply(session).runners if o.name != runner.name and not o.drained]
    return any(set(cell.wants) <= o.offers for o in others)


def _cannot_run(session: Session, run: Run, cell: Cell, reason: str) -> None:
    cell.state, cell.mark, cell.reason = "void", "void", reason
    session.flush()
    session.refresh(run, with_for_update=True)
    advance(session, run, plan_of(run.plan), cell)
    tell(session, "cell", session.get_one(Project, run.project_id).name, run.number)


def _lease(site: Site, session: Session, runner: Runner, cell: Cell, run: Run, job: Job) -> Lease:
    last = session.scalar(select(func.max(Attempt.number)).where(Attempt.cell_id == cell.id)) or 0
    attempt, token = _attempt_on(session, runner, cell, max(last, 0) + 1)
    cell.state, cell.mark, cell.attempt_id, cell.reason = "running", "running", attempt.id, ""
    if run.state == "waiting":
        run.state, run.started_at = "running", func.now()
    return _given(site, session, cell, run, job, attempt, token)


def _attempt_on(session: Session, runner: Runner, cell: Cell, number: int) -> tuple[Attempt, str]:
    token = secrets.token_urlsafe(24)
    attempt = Attempt(
        cell_id=cell.id, number=number, state="running", runner=runner.name, runner_id=runner.id,
        lease_digest=lease_digest(token), lease_until=func.now() + LEASE,
    )  # fmt: skip
    session.add(attempt)
    session.flush()
    return attempt, token


def _control_leases(site: Site, session: Session, runner: Runner, free: int) -> list[Lease]:
    """Control runs for slots that nothing else wants."""
    leases: list[Lease] = []
    for control in waiting_controls(session, runner.offers):
        cell = session.get_one(Cell, control.cell_id)
        if len(leases) >= free:
            break
        run = session.get_one(Run, cell.run_id)
        base = session.get(Run, run.baseline_id) if control.place == "baseline" and run.baseline_id else None
        plan = plan_of(base.plan if base is not None else run.plan)
        job = next((j for j in plan.jobs if j.id == cell.job), None) if plan is not None else None
        if job is None or lacking(session, run, job):
            control.state = "given-up"
            continue
        lowest = session.scalar(select(func.min(Attempt.number)).where(Attempt.cell_id == cell.id)) or 0
        attempt, token = _attempt_on(session, runner, cell, min(lowest, 0) - 1)
        control.state, control.attempt_id = "running", attempt.id
        leases.append(_given(site, session, cell, run, job, attempt, token, commit=control.commit))
    return leases


def _given(
    site: Site, session: Session, cell: Cell, run: Run, job: Job, attempt: Attempt, token: str, *, commit: str = ""
) -> Lease:
    project = session.get_one(Project, run.project_id)
    tell(session, "cell", project.name, run.number)
    return Lease(
        attempt.id, token, project.name, project.id, run.number, attempt.number, commit or run.tested or run.commit,
        run.base or run.before or "", run.branch, run.event, run.tag, cell.values, cell.wants, job,
        [why for _, why in steps_for(job, cell.values, event_of(run))], handed_to(session, run, job),
        values_for(site, session, run, job), origins(run.plan or "", job),
        project.address if "://" in project.address else "",
    )  # fmt: skip
