"""History from elsewhere: runs that happened before, with their own time, through the same reading and judging.

Only for privileged callers: the time of occurrence is believed. Order is ancestry all the same.
"""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from sqlalchemy import func
from sqlalchemy.orm import Session
from tenacity import Retrying, retry_if_exception, stop_after_attempt

from myriant.core.gate.contexts import push_to
from myriant.core.gate.note import NotedBlock, ProjectSays, commit_note, context_said
from myriant.core.gate.word import Word
from myriant.core.plan.intent import intent
from myriant.core.plan.model import FILE_NAME, Job, Plan
from myriant.core.plan.read import read_plan
from myriant.core.states import EventKind, State, Verdict, Why
from myriant.flow.actions.accepting import Wish, accept
from myriant.flow.conclude.judging import conclude_run
from myriant.flow.errors import BadInput
from myriant.flow.ingest.attempts import ingest_attempt
from myriant.flow.naming import the_project, the_run
from myriant.flow.planning.cells import make_cells
from myriant.flow.plans import event_of
from myriant.flow.site import Site
from myriant.flow.state.cells import start, stop
from myriant.flow.state.runs import supersede
from myriant.flow.state.starting import describe
from myriant.flow.who import Person
from myriant.repos.git import GitError
from myriant.store.cells import cells_of, remove_gated_cells
from myriant.store.changes import tell
from myriant.store.engine import is_deadlock
from myriant.store.judged import plan_job_results
from myriant.store.plans import keep_plan_text
from myriant.store.projects import next_run_number, project_named
from myriant.store.records import Finish
from myriant.store.runs import runs_numbered
from myriant.store.tables import Attempt, Cell, LogChunk, Project, Report, Run, Step


@dataclass(frozen=True, slots=True)
class PastReport:
    step: int
    content: str  # tests, coverage
    kind: str
    path: str
    data: bytes


@dataclass(frozen=True, slots=True)
class PastCell:
    """What happened in a cell; `void` says why it gave no result, if it did not."""

    job: str
    key: str
    seconds: float
    runtimes: dict[str, str] = field(default_factory=dict)
    reports: Sequence[PastReport] = ()
    failed_steps: Sequence[int] = ()
    void: str = ""
    log: bytes = b""
    missing: Sequence[str] = ()  # reports that should have been there


@dataclass(frozen=True, slots=True)
class PastRun:
    commit: str
    branch: str
    at: datetime
    cells: Sequence[PastCell]
    before: str | None = None
    superseded_by: int | None = None  # its number: this one was stopped for it
    alone: bool = False  # nothing behind its verdict may ever start


def import_run(site: Site, project_name: str, past: PastRun) -> int:
    """Take one run as if it had just happened at `past.at`; its number. Its note is not written yet."""
    with site.store.transaction() as session:
        project = project_named(session, project_name)
        if project is None:
            raise BadInput(f"there is no project {project_name!r}")
    mirror = site.mirror(project)
    try:
        commit = mirror.commit(past.commit)
    except GitError:
        mirror.fetch()
        commit = mirror.commit(past.commit)
    depth = mirror.depth(past.commit)
    source = mirror.file(past.commit, FILE_NAME)
    reading = read_plan(source or b"")
    if reading.plan is None:
        raise BadInput(f"the plan at {past.commit} cannot be used: {reading.problems[0]}")
    with site.store.transaction() as session:
        run = Run(
            project_id=project.id,
            number=next_run_number(session, project.id),
            event=EventKind.PUSH,
            context=str(push_to(past.branch)),
            branch=past.branch,
            commit=past.commit,
            before=past.before,
            state=State.RUNNING,
            verdict=Verdict.UNDECIDED,
            created_at=past.at,
            started_at=past.at + timedelta(seconds=0.4),
            plan_digest=keep_plan_text(session, source or b""),
        )
        describe(run, commit, depth)
        session.add(run)
        session.flush()
        found = intent(reading.plan, event_of(run))
        make_cells(session, run, found)
        if past.alone:
            remove_gated_cells(session, run.id)
        plan_job_results(session, run, {j.job.id: (True, None) for j in found.jobs if j.runs and not j.job.gated})
        session.flush()
        if past.superseded_by is not None:
            _stop(session, run, past)
            tell(session, "run", project.name, run.number)
            return run.number
        longest = max((c.seconds for c in past.cells), default=0.0)
        run.ended_at = past.at + timedelta(seconds=0.4 + longest)
        by_name = {(c.job, c.key): c for c in past.cells}
        cells = cells_of(session, run.id)
        told = [by_name.get((c.job, c.key)) or PastCell(c.job, c.key, 0.0, void="nothing was delivered") for c in cells]
        attempts = _attempts(site, session, run, cells, told, reading.plan)
        run_id, number = run.id, run.number
    for again in Retrying(retry=retry_if_exception(is_deadlock), stop=stop_after_attempt(8), reraise=True):
        with again:  # each can be done twice without harm, as their tasks are
            for attempt_id in attempts:
                ingest_attempt(site, attempt_id, follow_up=False)
            conclude_run(site, run_id, follow_up=False)
    return number


def _stop(session: Session, run: Run, past: PastRun) -> None:
    reason = f"superseded by #{past.superseded_by}"
    for cell in cells_of(session, run.id):
        stop(cell, Why.SUPERSEDED, reason)
    supersede(run, reason)
    run.ended_at = past.at + timedelta(seconds=20)


def _attempts(
    site: Site, session: Session, run: Run, cells: Sequence[Cell], told: Sequence[PastCell], plan: Plan
) -> list[int]:
    began = run.started_at or run.created_at
    attempts = [
        Attempt(
            cell_id=cell.id,
            number=1,
            state=State.READING,
            runner="history",
            lease_digest=hashlib.sha256(secrets.token_bytes(16)).hexdigest(),
            lease_until=began + timedelta(seconds=past.seconds),
            created_at=began,
            started_at=began,
            ended_at=began + timedelta(seconds=past.seconds),
            runtimes=past.runtimes,
            finish=Finish(
                void=past.void,
                missing=tuple(past.missing),
                failed_steps=tuple(past.failed_steps),
                workspace="/workspace",
            ),
            log_size=len(past.log),
        )
        for cell, past in zip(cells, told, strict=True)
    ]
    session.add_all(attempts)
    session.flush()
    for attempt, cell, past in zip(attempts, cells, told, strict=True):
        start(cell, attempt)
        session.add_all(_steps(attempt.id, began, past, plan.job(cell.job)))
        session.add_all(_kept(site, attempt.id, past))
    return [a.id for a in attempts]


def _steps(attempt_id: int, began: datetime, past: PastCell, job: Job) -> Iterator[Step]:
    share = timedelta(seconds=past.seconds / max(1, len(job.steps)))
    for position, step in enumerate(job.steps):
        failed = position in past.failed_steps
        yield Step(
            attempt_id=attempt_id,
            position=position,
            name=step.name,
            command=step.command if isinstance(step.command, str) else " ".join(step.command),
            state=State.FAILED if failed else State.PASSED,
            exit_status=1 if failed else 0,
            started_at=began + position * share,
            ended_at=began + (position + 1) * share,
            log_from=0,
            log_to=len(past.log),
        )


def _kept(site: Site, attempt_id: int, past: PastCell) -> Iterator[LogChunk | Report]:
    """The log and the raw reports, put into the blobs."""
    if past.log:
        key = f"logs/{attempt_id}/{0:014d}"
        site.blobs.put(key, [past.log])
        yield LogChunk(attempt_id=attempt_id, offset=0, size=len(past.log), blob=key)
    for number, report in enumerate(past.reports):
        key = f"reports/{attempt_id}/{number:04d}"
        site.blobs.put(key, [report.data])
        yield Report(
            attempt_id=attempt_id,
            number=number,
            step=report.step,
            content=report.content,
            kind=report.kind,
            path=report.path,
            digest=hashlib.sha256(report.data).hexdigest(),
            size=len(report.data),
            blob=key,
        )


def write_notes(site: Site, project_name: str, numbers: Sequence[int]) -> None:
    """Write the commit notes of imported runs, and send them all at once."""
    with site.store.transaction() as session:
        project = project_named(session, project_name)
        if project is None:
            raise BadInput(f"there is no project {project_name!r}")
        runs = runs_numbered(session, project.id, numbers).values()
        mirror = site.mirror(project)
        for run in runs:
            if run.note:
                mirror.note_here(run.commit, _note_alone(project, run))
                run.noted_at = func.now()
        mirror.send_notes()


def _note_alone(project: Project, run: Run) -> str:
    verdict = Verdict(run.verdict)
    noted = NotedBlock(project.name, context_said(run.context), verdict, run.note or "")
    return commit_note([ProjectSays(project.name, Word(verdict, run.context, run.number), [noted])])


def accept_past(site: Site, project_name: str, number: int, reason: str, who: Person) -> None:
    """Accept the tests that an imported run has less than before, as its people did then; it is judged again."""
    with site.store.transaction() as session:
        run = the_run(session, the_project(session, project_name), number)
        tests = run.measures.less.vanished
    if tests:
        accept(site, project_name, number, Wish(reason, tests=tests), who)
        conclude_run(site, run.id, follow_up=False)
