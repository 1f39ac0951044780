"""An attempt: its steps, its files, its neighbours."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from myriant.core.states import State
from myriant.flow.errors import NotFound
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.store.attempts import every_attempt_of, reports_of, steps_of
from myriant.store.tables import Attempt, Cell, Report, Run, Step


@dataclass(frozen=True, slots=True)
class StepView:
    position: int
    name: str
    command: str
    state: str
    reason: str
    exit_status: int | None
    started_at: datetime | None
    ended_at: datetime | None
    log_from: int | None
    log_to: int | None


@dataclass(frozen=True, slots=True)
class ReportView:
    id: int
    content: str
    kind: str
    path: str
    size: int
    digest: str
    total: int
    passed: int
    failed: int
    errored: int
    skipped: int
    seconds: float
    problems: list[dict[str, Any]]
    until: datetime | None  # the end of keeping


@dataclass(frozen=True, slots=True)
class OtherAttempt:
    id: int
    number: int
    state: str
    control: str  # here, baseline or empty


@dataclass(frozen=True, slots=True)
class AttemptView:
    id: int
    number: int
    job: str
    key: str
    state: str
    reason: str
    runner: str
    runtimes: dict[str, str]
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    log_size: int
    pruned_at: datetime | None  # since then its log and files are kept no more
    steps: list[StepView]
    reports: list[ReportView]
    earlier: list[int]  # ids of earlier attempts of the cell
    control: str  # here or baseline when it repeats the cell as a control run, else empty
    others: list[OtherAttempt]  # all attempts of the cell, control runs last


def attempt_view(site: Site, attempt_id: int) -> AttemptView:
    with site.store.view() as session:
        row = session.get(Attempt, attempt_id)
        if row is None:
            raise NotFound(f"there is no attempt {attempt_id}")
        cell = session.get_one(Cell, row.cell_id)
        run_row = session.get_one(Run, cell.run_id)
        planned = plan_of_run(session, run_row)
        told = {s.position: s for s in steps_of(session, attempt_id)}
        steps = [
            _step_view(told[i])
            if i in told
            else StepView(
                i,
                s.name,
                _command(s.command),
                State.WAITING if row.state == State.RUNNING else State.SKIPPED,
                "" if row.state == State.RUNNING else "an earlier step failed",
                None,
                None,
                None,
                None,
                None,
            )
            for i, s in enumerate(planned.job(cell.job).steps if planned else ())
        ]
        reports = reports_of(session, attempt_id)
        every = every_attempt_of(session, cell.id)
        earlier = [i for i, n, *_ in every if 0 < n < row.number]
        others = [OtherAttempt(i, n, state, place or "") for i, n, state, place in every]
        return AttemptView(
            row.id,
            row.number,
            cell.job,
            cell.key,
            row.state,
            row.reason,
            row.runner,
            row.runtimes,
            row.created_at,
            row.started_at,
            row.ended_at,
            row.log_size,
            row.pruned_at,
            steps,
            [
                ReportView(
                    r.id,
                    r.content,
                    r.kind,
                    r.path,
                    r.size,
                    r.digest,
                    r.total,
                    r.passed,
                    r.failed,
                    r.errored,
                    r.skipped,
                    r.seconds,
                    r.problems,
                    r.until,
                )
                for r in reports
            ],
            earlier,
            next((o.control for o in others if o.id == row.id), ""),
            others,
        )


def files_of(site: Site, attempt_id: int) -> list[tuple[str, str]]:
    """Blob and path of every file that an attempt delivered, each path once."""
    with site.store.view() as session:
        rows = [(r.blob, r.content, r.path) for r in reports_of(session, attempt_id) if r.blob]
    found: dict[str, str] = {}
    for blob, content, path in rows:
        found.setdefault(f"{content}/{path}", blob)
    return [(blob, path) for path, blob in found.items()]


@dataclass(frozen=True, slots=True)
class Stored:
    """A delivered file as it lies in the blobs."""

    blob: str
    name: str
    size: int  # bytes
    digest: str


def report_source(site: Site, report_id: int) -> Stored:
    """Where a raw report lies in the blobs. Raises NotFound."""
    with site.store.view() as session:
        row = session.get(Report, report_id)
        if row is None:
            raise NotFound(f"there is no report {report_id}")
        if not row.blob:
            raise NotFound(f"{row.path[:200]} is kept no more", "the project's settings say how long files are kept")
        return Stored(row.blob, row.path.rsplit("/", 1)[-1], row.size, row.digest)


def _step_view(s: Step) -> StepView:
    return StepView(
        s.position, s.name, s.command, s.state, s.reason, s.exit_status, s.started_at, s.ended_at, s.log_from, s.log_to
    )


def _command(command: str | tuple[str, ...]) -> str:
    return command if isinstance(command, str) else " ".join(command)
