"""Dispatch: cells are leased to runners, and taken back when a runner is lost."""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.plan.intent import steps_for
from myriant.core.plan.model import Job, Plan
from myriant.core.plan.origins import Origin, origins
from myriant.core.plan.versions import offered_names
from myriant.flow import caching, logs
from myriant.flow.advance import advance
from myriant.flow.errors import BadInput, LeaseLost, NotFound, Replaced
from myriant.flow.plans import event_of, plan_of
from myriant.flow.queue import supply, waiting_controls
from myriant.flow.site import Site
from myriant.flow.uploads import take_file
from myriant.flow.vault import lacking, values_for
from myriant.store.changes import ring_runners, tell
from myriant.store.queue import defer
from myriant.store.runs import expired_leases, open_leases_of, running_beside, waiting_cells
from myriant.store.tables import Attempt, AttemptRecord, Cell, Control, Project, Report, Run, Runner, ServerBeat, Step

LEASE = timedelta(seconds=20)
TRIES_AFTER_LOSS = 2  # further attempts of a cell whose runner is lost each time
MOST_REPORT_BYTES = 1 << 30
SPARE = 4  # cells looked at beyond the free slots, for those that are passed over
MISSED = timedelta(seconds=8)  # without a beat a server is taken to have been away
MOST_TROUBLES = 5  # attempts in a row that a runner's machine made void before it is drained


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
            job = _job(run.plan or "", cell.job)
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
    advance(session, run, plan_of(run.plan))
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
        lease_digest=_digest(token), lease_until=func.now() + LEASE,
    )  # fmt: skip
    session.add(attempt)
    session.flush()
    return attempt, token


def _control_leases(site: Site, session: Session, runner: Runner, free: int) -> list[Lease]:
    """Control runs for slots that nothing else wants."""
    leases: list[Lease] = []
    for control in waiting_controls(session):
        cell = session.get_one(Cell, control.cell_id)
        if len(leases) >= free or not set(cell.wants) <= set(runner.offers):
            continue
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
    judged_by = plan_of(run.rules)
    allowed = next((j for j in judged_by.jobs if j.id == job.id), None) if judged_by is not None else job
    tell(session, "cell", project.name, run.number)
    return Lease(
        attempt.id, token, project.name, project.id, run.number, attempt.number, commit or run.tested or run.commit,
        run.base or run.before or "", run.branch, run.event, run.tag, cell.values, cell.wants, job,
        [why for _, why in steps_for(job, cell.values, event_of(run))], _handed(session, run, job),
        values_for(site, session, run, job, allowed), origins(run.plan or "", job),
        project.address if "://" in project.address else "",
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
        step = {k: v.replace("\0", "") if isinstance(v, str) else v for k, v in step.items()}
        values = {"attempt_id": attempt_id, **step}
        session.execute(
            insert(Step).values(**values).on_conflict_do_update(index_elements=["attempt_id", "position"], set_=step)
        )
        _tell_run(session, attempt, "cell")


def keep_log(site: Site, attempt_id: int, token: str, offset: int, data: bytes, at: datetime | None = None) -> int:
    """Keep a piece of log, printed `at` a time, at its offset; the size known so far."""
    with site.store.transaction() as session:
        attempt = _held(session, attempt_id, token, lock=True)
        before = attempt.log_size
        size = logs.take_in(site, session, attempt, offset, data, at)
        if size > before:
            _tell_run(session, attempt, "log")
        return size


def keep_record(site: Site, attempt_id: int, token: str, kind: str, content: Any) -> None:
    """Keep what a runner tells of an attempt beside its steps; the newest word counts."""
    with site.store.transaction() as session:
        attempt = _held(session, attempt_id, token)
        _keep_record(session, attempt_id, kind, content)
        _tell_run(session, attempt, "cell")


def _kept(content: Any) -> Any:
    """What PostgreSQL can keep of it: no zero bytes."""
    return json.loads(json.dumps(content, default=str).replace("\\u0000", ""))


def _keep_record(session: Session, attempt_id: int, kind: str, content: Any) -> None:
    values = {"attempt_id": attempt_id, "kind": kind, "content": _kept(content)}
    session.execute(
        insert(AttemptRecord).values(**values).on_conflict_do_update(index_elements=["attempt_id", "kind"], set_=values)
    )


def find_cache(site: Site, attempt_id: int, token: str, name: str, parts: Mapping[str, Any]) -> caching.CacheAnswer:
    with site.store.transaction() as session:
        return caching.find_cache(session, _held(session, attempt_id, token), name, parts)


def cache_archive(site: Site, attempt_id: int, token: str, entry: int) -> Iterable[bytes]:
    with site.store.transaction() as session:
        return caching.cache_archive(site, session, _held(session, attempt_id, token), entry)


def keep_cache(
    site: Site, attempt_id: int, token: str, name: str, told: Mapping[str, Any], chunks: Iterable[bytes], digest: str
) -> str:
    with site.store.transaction() as session:
        _held(session, attempt_id, token)
    return caching.keep_cache(site, attempt_id, name, told, chunks, digest)


def keep_part(site: Site, attempt_id: int, token: str, number: int, part: int, data: bytes) -> None:
    """Keep a part of a long report until all of them are there; the same part again changes nothing."""
    with site.store.transaction() as session:
        _held(session, attempt_id, token)
    site.blobs.put(f"parts/{attempt_id}/{number:04d}/{part:05d}", [data])


def parts_of(site: Site, attempt_id: int, number: int, parts: int) -> Iterable[bytes]:
    """The parts of a long report one after another. Raises BadInput when one is missing."""
    for part in range(parts):
        try:
            yield from site.blobs.chunks(f"parts/{attempt_id}/{number:04d}/{part:05d}")
        except FileNotFoundError as error:
            raise BadInput(f"part {part} of the report is missing", "send it again") from error


def forget_parts(site: Site, attempt_id: int, number: int, parts: int) -> None:
    for part in range(parts):
        site.blobs.remove(f"parts/{attempt_id}/{number:04d}/{part:05d}")


def keep_report(
    site: Site, attempt_id: int, token: str, described: dict[str, Any], chunks: Iterable[bytes], digest: str
) -> None:
    """Keep a raw report; its bytes must have the digest (SHA-256) that the runner computed."""
    with site.store.transaction() as session:
        _held(session, attempt_id, token)
    key = f"reports/{attempt_id}/{described['number']:04d}"
    size = take_file(site, key, chunks, digest, MOST_REPORT_BYTES, "a report")
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
        record = said.pop("record", {})
        said = _kept(said)
        for kind, content in record.items():
            _keep_record(session, attempt_id, kind, content)
        attempt.state, attempt.finish, attempt.ended_at = "reading", said, func.now()
        attempt.runtimes = said.get("runtimes", {})
        defer(session, "ingest", lock=f"attempt-{attempt_id}", priority=5, attempt_id=attempt_id)
        ring_runners(session)
        _tell_run(session, attempt, "cell")
    _watch_machine(site, attempt.runner_id, said)


def _watch_machine(site: Site, runner_id: int | None, said: Mapping[str, Any]) -> None:
    """Drain a runner whose attempts keep going void because of its machine.

    A transaction of its own: a runner's row is locked before its attempts everywhere.
    """
    troubled = bool(said.get("machine"))
    with site.store.transaction() as session:
        found = session.get(Runner, runner_id) if runner_id is not None else None
        if found is None or not (troubled or found.troubles):
            return
        runner = session.get_one(Runner, runner_id, with_for_update=True, populate_existing=True)
        runner.troubles = runner.troubles + 1 if troubled else 0
        if runner.troubles >= MOST_TROUBLES and not runner.drained:
            why = f"its last {runner.troubles} attempts went void because of its machine: {said.get('void', '')}"
            runner.drained = why[:1000]
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
        advance(session, run, plan)
    _tell_run(session, attempt, "cell")


def may_try_again(session: Session, attempt: Attempt, plan: Plan | None, cell: Cell) -> bool:
    """Whether a cell whose runner or machine failed it is given to a runner once more, as its plan says."""
    voids = select(func.count()).where(Attempt.cell_id == cell.id, Attempt.state == "void", Attempt.number > 0)
    lost = session.scalar(voids) or 0
    return lost <= (plan.job(cell.job).retry.void if plan is not None else TRIES_AFTER_LOSS)


def wait_again(session: Session, cell: Cell, attempt: Attempt, reason: str) -> None:
    cell.state, cell.mark, cell.reason = "waiting", "waiting", f"again after attempt {attempt.number}: {reason}"
    ring_runners(session)


def _tell_run(session: Session, attempt: Attempt, kind: str) -> None:
    row = session.execute(
        select(Project.name, Run.number)
        .join(Run, Run.project_id == Project.id)
        .join(Cell, Cell.run_id == Run.id)
        .where(Cell.id == attempt.cell_id)
    ).one()
    tell(session, kind, row[0], row[1])
