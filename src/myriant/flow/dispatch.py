"""Dispatch: cells are leased to runners, and taken back when a runner is lost."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from myriant.core.plan.intent import steps_for
from myriant.core.plan.model import Job, Plan
from myriant.core.plan.origins import Origin, origins
from myriant.flow.advance import advance
from myriant.flow.controls import waiting_controls
from myriant.flow.errors import BadInput, LeaseLost, NotFound, Replaced
from myriant.flow.plans import event_of, plan_of
from myriant.flow.queue import supply
from myriant.flow.site import Site
from myriant.flow.vault import lacking, values_for
from myriant.store.changes import ring_runners, tell
from myriant.store.runs import expired_leases, open_leases_of, running_beside, waiting_cells
from myriant.store.tables import Attempt, Cell, Control, Project, Report, Run, Runner, ServerBeat

LEASE = timedelta(seconds=20)
TRIES_AFTER_LOSS = 2  # further attempts of a cell whose runner is lost each time
SPARE = 4  # cells looked at beyond the free slots, for those that are passed over
MISSED = timedelta(seconds=8)  # without a beat a server is taken to have been away


@dataclass(frozen=True, slots=True)
class HandedFile:
    """A file that an earlier job handed over; `key` is empty when that job has only one cell."""

    report: int
    job: str
    key: str
    path: str


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


def handed_to(session: Session, run: Run, job: Job) -> list[HandedFile]:
    """What the jobs that a job waits for, near and far, have handed over."""
    plan = plan_of(run.plan)
    awaited: set[str] = set()
    queue = [a.job for a in job.after]
    while plan is not None and queue:
        name = queue.pop()
        if name not in awaited:
            awaited.add(name)
            queue += [a.job for a in plan.job(name).after]
    if not awaited:
        return []
    rows = session.execute(
        select(Report.id, Cell.job, Cell.key, Report.path)
        .join(Cell, Cell.attempt_id == Report.attempt_id)
        .where(Cell.run_id == run.id, Cell.job.in_(awaited), Report.content == "hand-over")
        .order_by(Report.id)
    ).all()
    cells = dict(
        session.execute(
            select(Cell.job, func.count()).where(Cell.run_id == run.id, Cell.selected).group_by(Cell.job)
        ).all()
    )
    return [HandedFile(r, j, key if cells.get(j, 1) > 1 else "", path) for r, j, key, path in rows]


def job_of(plan: str, job_id: str) -> Job:
    found = plan_of(plan)
    if found is None:
        raise BadInput("the run's plan cannot be read any more")
    return found.job(job_id)


def lease_digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def held(session: Session, attempt_id: int, token: str, *, lock: bool = False) -> Attempt:
    """The attempt, when the token is that of its running lease. Raises LeaseLost."""
    attempt = session.get(Attempt, attempt_id, with_for_update=lock)
    if attempt is None or not secrets.compare_digest(attempt.lease_digest, lease_digest(token)):
        raise LeaseLost("this lease is not known")
    if attempt.state != "running":
        raise LeaseLost(f"this attempt has ended: {attempt.state} {attempt.reason}".strip())
    return attempt


def check_lease(site: Site, attempt_id: int, token: str) -> tuple[int, str]:
    """The project of a running lease and its commit, for fetching the source. Raises LeaseLost."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        run = session.get_one(Run, session.get_one(Cell, attempt.cell_id).run_id)
        return run.project_id, run.tested or run.commit


def heartbeat(site: Site, runner_id: int, attempts: dict[int, str]) -> list[int]:
    """Keep leases alive; the attempts among them that the runner must give up."""
    lost = []
    with site.store.transaction() as session:
        runner = session.get(Runner, runner_id)
        if runner is None:
            raise NotFound("this runner is not enrolled", "start it again: myriant runner")
        runner.seen_at = func.now()
        for attempt_id, token in sorted(attempts.items()):
            try:
                held(session, attempt_id, token, lock=True).lease_until = func.now() + LEASE
            except LeaseLost:
                lost.append(attempt_id)
    return lost


def beat(site: Site, server: str) -> None:
    """A server says that it answers. Beats that were interrupted, by whatever, begin a new stretch of service."""
    with site.store.transaction() as session:
        mine = session.get(ServerBeat, server, with_for_update=True)
        now: datetime = session.execute(select(func.clock_timestamp())).scalar_one()
        if mine is None:
            session.add(ServerBeat(server=server))
        else:
            mine.since = now if now - mine.beat_at > MISSED or now < mine.beat_at else mine.since
            mine.beat_at = now
        session.execute(delete(ServerBeat).where(ServerBeat.beat_at < now - timedelta(hours=1)))


def take_back_expired(site: Site) -> int:
    """Void the attempts whose runner was not heard of in time; how many.

    A runner can only be heard of while a server answers: leases are taken back when one has answered for as long
    as a lease lasts. So neither a server nor a database that was away, nor a clock that jumped, costs an attempt.
    """
    with site.store.transaction() as session:
        now = func.clock_timestamp()
        answering = select(ServerBeat).where(ServerBeat.since < now - LEASE, ServerBeat.beat_at > now - MISSED)
        if session.scalars(answering.limit(1)).first() is None:
            return 0
        expired = expired_leases(session)
        for attempt in expired:
            lose(session, attempt, f"runner {attempt.runner} was not heard of for {LEASE.seconds} s")
    return len(expired)


def lose(session: Session, attempt: Attempt, reason: str) -> None:
    """The runner is lost: the attempt is void, and its cell waits for another or is void itself."""
    attempt.state, attempt.reason, attempt.ended_at = "void", reason, func.now()
    if attempt.number < 0:
        session.execute(update(Control).where(Control.attempt_id == attempt.id).values(state="given-up"))
        return
    cell = session.get_one(Cell, attempt.cell_id, with_for_update=True)
    if cell.attempt_id != attempt.id or cell.state != "running":
        return
    run = session.get_one(Run, cell.run_id)
    plan = plan_of(run.plan)
    if may_try_again(session, attempt, plan, cell):
        wait_again(session, cell, attempt, reason)
    else:
        cell.state, cell.mark, cell.reason = "void", "void", reason
        session.flush()
        session.refresh(run, with_for_update=True)
        advance(session, run, plan, cell)
    tell_run(session, attempt, "cell")


def may_try_again(session: Session, attempt: Attempt, plan: Plan | None, cell: Cell) -> bool:
    """Whether a cell whose runner or machine failed it is given to a runner once more, as its plan says."""
    voids = select(func.count()).where(Attempt.cell_id == cell.id, Attempt.state == "void", Attempt.number > 0)
    lost = session.scalar(voids) or 0
    return lost <= (plan.job(cell.job).retry.void if plan is not None else TRIES_AFTER_LOSS)


def wait_again(session: Session, cell: Cell, attempt: Attempt, reason: str) -> None:
    cell.state, cell.mark, cell.reason = "waiting", "waiting", f"again after attempt {attempt.number}: {reason}"
    ring_runners(session)


def tell_run(session: Session, attempt: Attempt, kind: str) -> None:
    row = session.execute(
        select(Project.name, Run.number)
        .join(Run, Run.project_id == Project.id)
        .join(Cell, Cell.run_id == Run.id)
        .where(Cell.id == attempt.cell_id)
    ).one()
    tell(session, kind, row[0], row[1])
