"""Dispatch: cells are leased to runners, and taken back when a runner is lost."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Collection, Iterable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.plan.intent import steps_for
from myriant.core.plan.model import Job
from myriant.core.plan.versions import offered_names
from myriant.flow.advance import advance
from myriant.flow.errors import BadInput, LeaseLost, NotFound
from myriant.flow.plans import event_of, plan_of
from myriant.flow.site import Site
from myriant.store.changes import ring_runners, tell
from myriant.store.queue import defer
from myriant.store.runs import expired_leases, oldest_waiting_cells, open_leases_of, running_beside
from myriant.store.tables import Attempt, Cell, LogChunk, Project, Report, Run, Runner, Step

LEASE = timedelta(seconds=20)
TRIES_AFTER_LOSS = 2  # further attempts of a cell whose runner is lost each time
MOST_REPORT_BYTES = 1 << 30


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


def enrol(
    site: Site, name: str, slots: int, runtimes: list[dict[str, str]], isolation: str, version: str, boot: str,
    labels: Collection[str] = (), price: float = 0.0,
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
        "version": version, "boot": boot, "price": price,
    }  # fmt: skip
    with site.store.transaction() as session:
        before = session.scalar(select(Runner).where(Runner.name == name))
        if before is not None and before.boot != boot:
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


def claim(site: Site, runner_id: int, boot: str, free: int, holding: Collection[int]) -> list[Lease]:
    """Give a runner with `free` slots the cells it can take, oldest first.

    `boot` tells the start of the runner that asks: a request of one that was killed gets nothing. A lease
    that the runner does not hold was lost on its way there, and is taken back.
    """
    with site.store.transaction() as session:
        runner = session.get(Runner, runner_id)
        if runner is None:
            raise NotFound("this runner is not enrolled", "start it again: myriant runner")
        if runner.boot != boot:
            return []
        runner.seen_at = func.now()
        for attempt in open_leases_of(session, runner_id):
            if attempt.id not in holding:
                lose(session, attempt, "the lease did not reach the runner")
        leases = []
        for cell in oldest_waiting_cells(session, runner.offers, free):
            if cell.at_once is None or running_beside(session, cell) < cell.at_once:
                leases.append(_lease(session, runner, cell))
                session.flush()
    return leases


def _lease(session: Session, runner: Runner, cell: Cell) -> Lease:
    run = session.get_one(Run, cell.run_id)
    project = session.get_one(Project, run.project_id)
    last = session.scalar(select(func.max(Attempt.number)).where(Attempt.cell_id == cell.id)) or 0
    token = secrets.token_urlsafe(24)
    attempt = Attempt(
        cell_id=cell.id,
        number=last + 1,
        state="running",
        runner=runner.name,
        runner_id=runner.id,
        lease_digest=_digest(token),
        lease_until=func.now() + LEASE,
    )
    session.add(attempt)
    session.flush()
    cell.state, cell.mark, cell.attempt_id, cell.reason = "running", "running", attempt.id, ""
    if run.state == "waiting":
        run.state, run.started_at = "running", func.now()
    tell(session, "cell", project.name, run.number)
    job = _job(run.plan or "", cell.job)
    skipped = [why for _, why in steps_for(job, cell.values, event_of(run))]
    return Lease(
        attempt.id, token, project.name, project.id, run.number, attempt.number, run.tested or run.commit,
        run.base or run.before or "", run.branch, run.event, run.tag, cell.values, cell.wants, job, skipped,
        _handed(session, run, job),
    )  # fmt: skip


def _handed(session: Session, run: Run, job: Job) -> list[HandedFile]:
    """What the jobs that a job waits for, near and far, have handed over."""
    plan = plan_of(run.plan)
    awaited: set[str] = set()
    queue = [a.job for a in job.after]
    while plan is not None and queue:
        name = queue.pop()
        if name not in awaited:
            awaited.add(name)
            queue += [a.job for a in plan.job(name).after]
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


def handed_file(site: Site, attempt_id: int, token: str, report_id: int) -> Iterable[bytes]:
    """The content of a file that was handed over to an attempt. Raises LeaseLost, NotFound."""
    with site.store.transaction() as session:
        attempt = _held(session, attempt_id, token)
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        allowed = {h.report for h in _handed(session, run, _job(run.plan or "", cell.job))}
        report = session.get(Report, report_id) if report_id in allowed else None
        if report is None:
            raise NotFound("this file was not handed over to the attempt")
        return site.blobs.chunks(report.blob)


def _job(plan: str, job_id: str) -> Job:
    found = plan_of(plan)
    if found is None:
        raise BadInput("the run's plan cannot be read any more")
    return found.job(job_id)


def _digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _held(session: Session, attempt_id: int, token: str, *, lock: bool = False) -> Attempt:
    """The attempt, when the token is that of its running lease. Raises LeaseLost."""
    attempt = session.get(Attempt, attempt_id, with_for_update=lock)
    if attempt is None or not secrets.compare_digest(attempt.lease_digest, _digest(token)):
        raise LeaseLost("this lease is not known")
    if attempt.state != "running":
        raise LeaseLost(f"this attempt has ended: {attempt.state} {attempt.reason}".strip())
    return attempt


def check_lease(site: Site, attempt_id: int, token: str) -> tuple[int, str]:
    """The project of a running lease and its commit, for fetching the source. Raises LeaseLost."""
    with site.store.transaction() as session:
        attempt = _held(session, attempt_id, token)
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
                _held(session, attempt_id, token, lock=True).lease_until = func.now() + LEASE
            except LeaseLost:
                lost.append(attempt_id)
    return lost


def record_step(site: Site, attempt_id: int, token: str, step: dict[str, Any]) -> None:
    """Keep what a runner says of a step: at its start and again at its end."""
    with site.store.transaction() as session:
        attempt = _held(session, attempt_id, token)
        if attempt.started_at is None and step.get("started_at") is not None:
            attempt.started_at = step["started_at"]
        values = {"attempt_id": attempt_id, **step}
        session.execute(
            insert(Step).values(**values).on_conflict_do_update(index_elements=["attempt_id", "position"], set_=step)
        )
        _tell_run(session, attempt, "cell")


def keep_log(site: Site, attempt_id: int, token: str, offset: int, data: bytes) -> int:
    """Keep a piece of log at its offset; the size known so far. The same piece again changes nothing."""
    with site.store.transaction() as session:
        attempt = _held(session, attempt_id, token, lock=True)
        if offset > attempt.log_size:
            return attempt.log_size  # a piece is missing: the runner sends from here
        fresh = data[attempt.log_size - offset :]
        if not fresh:
            return attempt.log_size
        at = attempt.log_size
        key = f"logs/{attempt_id}/{at:014d}"
        site.blobs.put(key, [fresh])
        session.add(LogChunk(attempt_id=attempt_id, offset=at, size=len(fresh), blob=key))
        attempt.log_size = at + len(fresh)
        _tell_run(session, attempt, "log")
        return attempt.log_size


def keep_report(
    site: Site, attempt_id: int, token: str, described: dict[str, Any], chunks: Iterable[bytes], digest: str
) -> None:
    """Keep a raw report; its bytes must have the digest (SHA-256) that the runner computed."""
    with site.store.transaction() as session:
        _held(session, attempt_id, token)
    key = f"reports/{attempt_id}/{described['number']:04d}"
    sha = hashlib.sha256()
    size = 0

    def watched() -> Iterable[bytes]:
        nonlocal size
        for chunk in chunks:
            size += len(chunk)
            if size > MOST_REPORT_BYTES:
                raise BadInput(f"a report of more than {MOST_REPORT_BYTES:,} bytes", "split the report")
            sha.update(chunk)
            yield chunk

    site.blobs.put(key, watched())
    if sha.hexdigest() != digest:
        site.blobs.remove(key)
        raise BadInput("the report arrived damaged: its digest differs", "send it again")
    with site.store.transaction() as session:
        _held(session, attempt_id, token, lock=True)
        values = {"attempt_id": attempt_id, **described, "digest": digest, "size": size, "blob": key}
        session.execute(
            insert(Report).values(**values).on_conflict_do_update(index_elements=["attempt_id", "number"], set_=values)
        )


def finish(site: Site, attempt_id: int, token: str, said: dict[str, Any]) -> None:
    """A runner is done; its reports are read next. Only then has the attempt an outcome."""
    with site.store.transaction() as session:
        attempt = session.get(Attempt, attempt_id, with_for_update=True)
        if attempt is not None and attempt.state == "reading" and attempt.lease_digest == _digest(token):
            return  # the answer to the first time was lost
        attempt = _held(session, attempt_id, token, lock=True)
        attempt.state, attempt.finish, attempt.ended_at = "reading", said, func.now()
        attempt.runtimes = said.get("runtimes", {})
        defer(session, "ingest", lock=f"attempt-{attempt_id}", priority=5, attempt_id=attempt_id)
        ring_runners(session)
        _tell_run(session, attempt, "cell")


def take_back_expired(site: Site) -> int:
    """Void the attempts whose runner was not heard of in time; how many."""
    with site.store.transaction() as session:
        expired = expired_leases(session)
        for attempt in expired:
            lose(session, attempt, f"runner {attempt.runner} was not heard of for {LEASE.seconds} s")
    return len(expired)


def lose(session: Session, attempt: Attempt, reason: str) -> None:
    """The runner is lost: the attempt is void, and its cell waits for another or is void itself."""
    attempt.state, attempt.reason, attempt.ended_at = "void", reason, func.now()
    cell = session.get_one(Cell, attempt.cell_id, with_for_update=True)
    if cell.attempt_id != attempt.id or cell.state != "running":
        return
    run = session.get_one(Run, cell.run_id)
    plan = plan_of(run.plan)
    if attempt.number <= (plan.job(cell.job).retry.void if plan is not None else TRIES_AFTER_LOSS):
        cell.state, cell.mark, cell.reason = "waiting", "waiting", f"again after attempt {attempt.number}: {reason}"
        ring_runners(session)
    else:
        cell.state, cell.mark, cell.reason = "void", "void", reason
        session.flush()
        session.refresh(run, with_for_update=True)
        advance(session, run, plan)
    _tell_run(session, attempt, "cell")


def _tell_run(session: Session, attempt: Attempt, kind: str) -> None:
    row = session.execute(
        select(Project.name, Run.number)
        .join(Run, Run.project_id == Project.id)
        .join(Cell, Cell.run_id == Run.id)
        .where(Cell.id == attempt.cell_id)
    ).one()
    tell(session, kind, row[0], row[1])
