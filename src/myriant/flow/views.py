"""What the screens, the commands and other programs read: plain values, one question each."""

from __future__ import annotations

import itertools
import statistics
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from fractions import Fraction
from typing import Any

from sqlalchemy import ColumnElement, and_, case, func, select
from sqlalchemy.orm import Session

from myriant.core.coverage.model import Totals
from myriant.core.plan.versions import version_key
from myriant.core.written import percent
from myriant.flow.conclude import gate_baseline
from myriant.flow.controls import ControlView, controls_of
from myriant.flow.errors import NotFound
from myriant.flow.lines import RunLine, run_line, the_project, the_run
from myriant.flow.plans import plan_of
from myriant.flow.queue import Load, Queued, load, queue_of, stuck_cells
from myriant.flow.site import Site
from myriant.store.coverage import coverage_totals_of, coverage_totals_of_attempts
from myriant.store.runs import (
    OPEN,
    attempts_of,
    cells_of,
    newest_run_of_commit,
)
from myriant.store.tables import Approval, Attempt, Cell, Control, Project, Report, Run, Step, Untested

_LETTERS = {
    "passed": "p", "new": "n", "failed": "n", "known": "k", "fixed": "x", "first": "f", "void": "v", "quarantined": "q",
    "skipped": "s", "not-selected": "-", "running": "r", "waiting": "w", "stopped": "o", "flaky": "y",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class ProjectLine:
    name: str
    description: str
    address: str
    main_branch: str
    hooked: bool
    looked_at: datetime | None
    trouble: str | None
    newest: RunLine | None


@dataclass(frozen=True, slots=True)
class Lane:
    """The cells of one job, in the order in which `marks` of the columns name them."""

    job: str
    title: str
    keys: list[str]


@dataclass(frozen=True, slots=True)
class Column:
    """A run on the strip; `marks` has one letter a cell over all lanes, capital for advisory, a blank for none."""

    run: RunLine
    marks: str
    new: int
    fixed: int
    coverage: float | None  # line share, merged over the cells
    gap: int  # commits before this one, back to the column before, that have no run of their own


@dataclass(frozen=True, slots=True)
class Strip:
    project: str
    branch: str
    branches: list[str]
    lanes: list[Lane]
    columns: list[Column]  # oldest first
    more: bool  # there are older runs


@dataclass(frozen=True, slots=True)
class JudgedRule:
    name: str
    measure: str
    sign: str
    level: str
    line: int
    met: bool
    reason: str
    value: str | None
    limit: str | None
    against_baseline: bool


@dataclass(frozen=True, slots=True)
class CellView:
    id: int
    job: str
    job_title: str
    key: str
    values: dict[str, str]
    advisory: bool
    state: str
    mark: str
    reason: str
    attempt_id: int | None
    attempt: int
    runner: str
    runtimes: dict[str, str]
    seconds: float | None
    started_at: datetime | None
    total: int
    passed: int
    failed: int
    errored: int
    skipped: int
    new: int
    known: int
    fixed: int
    coverage: float | None  # line share of this cell alone
    waited: float | None  # seconds from the run to the lease
    selected: bool  # by the sample
    gated: bool
    reused: int | None  # the run whose result this is
    flaky: int
    predicted: float | None  # seconds that it takes, by what it took before
    starts_in: float | None  # seconds until it is predicted to start
    stuck: bool  # no runner can take it


@dataclass(frozen=True, slots=True)
class PlanEdit:
    """Replace what stands between two places (from 1, the end behind it) by a text."""

    line: int
    column: int
    end_line: int
    end_column: int
    text: str


@dataclass(frozen=True, slots=True)
class PlanProblem:
    level: str
    file: str
    line: int
    column: int
    text: str
    message: str
    mend: str
    edits: list[PlanEdit] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class CoverageView:
    """Lines and branches covered, and the change of the line share against the gate baseline."""

    shown: str
    lines_valid: int
    lines_covered: int
    branches_valid: int
    branches_covered: int
    change: float | None  # in percentage points


@dataclass(frozen=True, slots=True)
class BlindView:
    """Combinations that no chosen cell of a sample has."""

    size: int
    missed: int
    possible: int
    examples: list[dict[str, str]]


@dataclass(frozen=True, slots=True)
class JobTold:
    """What a run says of a job beside its cells: why it does not run, why it does, what its sample hides."""

    job: str
    title: str
    reason: str = ""
    because: str = ""
    blind: BlindView | None = None


@dataclass(frozen=True, slots=True)
class RunView:
    project: str
    run: RunLine
    author_mail: str
    purpose: str
    reason: str
    share_passed: str | None
    tests: int
    coverage: CoverageView | None
    baseline: RunLine | None
    judged: list[JudgedRule]
    problems: list[PlanProblem]
    cells: list[CellView]
    note: str | None
    noted_at: datetime | None
    note_trouble: str | None
    tag: str
    source: str
    pull_request: int | None
    base: str | None
    tested: str  # the commit that ran: a pull request's merge, else the commit itself
    changed_covered: str | None  # share of the changed lines that tests cover
    left_out: list[JobTold]
    approvals: list[ApprovalView]
    controls: list[ControlView]
    open: bool  # cells still wait or run


@dataclass(frozen=True, slots=True)
class ApprovalView:
    job: str
    state: str  # waiting, given, refused, late
    by: str
    until: datetime
    at: datetime | None


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
    steps: list[StepView]
    reports: list[ReportView]
    earlier: list[int]  # ids of earlier attempts of the cell
    control: str  # here or baseline when it repeats the cell as a control run, else empty
    others: list[OtherAttempt]  # all attempts of the cell, control runs last


@dataclass(frozen=True, slots=True)
class DeskRun:
    """One of a project's newest runs, in a few marks."""

    number: int
    title: str
    verdict: str
    marks: str  # one letter a cell
    coverage: float | None
    seconds: float | None  # from the event to the verdict


@dataclass(frozen=True, slots=True)
class StuckCell:
    project: str
    run: int
    job: str
    key: str
    reason: str


@dataclass(frozen=True, slots=True)
class DeskProject:
    project: ProjectLine
    held_since: RunLine | None  # the first of the held runs in a row up to now
    runs: list[DeskRun]  # oldest first
    seconds: float | None  # median time to the verdict


@dataclass(frozen=True, slots=True)
class Desk:
    projects: list[DeskProject]
    stuck: list[StuckCell]
    pulse: Load


@dataclass(frozen=True, slots=True)
class VerdictView:
    project: str
    purpose: str
    verdict: str
    sentence: str
    run: int
    address: str
    final: bool  # nothing more is coming


def projects(site: Site) -> list[ProjectLine]:
    with site.store.transaction() as session:
        return [_project_line(session, p) for p in session.scalars(select(Project).order_by(Project.name))]


def project(site: Site, name: str) -> ProjectLine:
    with site.store.transaction() as session:
        return _project_line(session, the_project(session, name))


def project_id(site: Site, name: str) -> int:
    with site.store.transaction() as session:
        return the_project(session, name).id


def strip(site: Site, name: str, branch: str | None, before: int | None, limit: int) -> Strip:
    """The newest `limit` runs of a branch in the order of ancestry, those before run number `before` if given."""
    with site.store.transaction() as session:
        found = the_project(session, name)
        branch = branch or found.main_branch
        query = select(Run).where(Run.project_id == found.id, on_ref(branch))
        if before is not None:
            pivot = the_run(session, found, before)
            query = query.where((Run.depth < pivot.depth) | ((Run.depth == pivot.depth) & (Run.number < pivot.number)))
        rows = list(session.scalars(query.order_by(Run.depth.desc(), Run.number.desc()).limit(limit + 1)))
        more, runs = len(rows) > limit, list(reversed(rows[:limit]))
        cells = session.execute(
            select(Cell.run_id, Cell.job, Cell.job_title, Cell.key, Cell.mark, Cell.advisory)
            .where(Cell.run_id.in_([r.id for r in runs]))
            .order_by(Cell.run_id.desc(), Cell.position)
        ).all()
        shares = coverage_totals_of(session, [r.id for r in runs])
        named = case(
            (Run.pull_request.is_not(None), func.concat(PULL, Run.pull_request)),
            (Run.tag != "", func.concat(TAG, Run.tag)),
            else_=Run.branch,
        )
        refs = select(named).where(Run.project_id == found.id).group_by(named).order_by(func.max(Run.id).desc())
        branches = list(session.scalars(refs.limit(200)))
    lanes: dict[str, Lane] = {}
    for _, job, title, key, *_ in cells:
        lane = lanes.setdefault(job, Lane(job, title, []))
        if key not in lane.keys:
            lane.keys.append(key)
    for lane in lanes.values():
        lane.keys.sort(key=lambda key: [version_key(part) for part in key.split(",")])
    place = {(lane.job, key): 0 for lane in lanes.values() for key in lane.keys}
    place = {name: i for i, name in enumerate(place)}
    marks: dict[int, list[str]] = {r.id: [" "] * len(place) for r in runs}
    for run_id, job, _, key, mark, advisory in cells:
        letter = _LETTERS.get(mark, "w")
        marks[run_id][place[(job, key)]] = letter.upper() if advisory else letter
    gaps = [0, *(max(0, b.depth - a.depth - 1) for a, b in itertools.pairwise(runs))]
    columns = [
        Column(
            run_line(r),
            "".join(marks[r.id]),
            _counted(r, "tests.new"),
            _counted(r, "tests.fixed"),
            _fraction(shares.get((r.id, ""))),
            gap,
        )
        for r, gap in zip(runs, gaps, strict=False)
    ]
    return Strip(name, branch, branches, list(lanes.values()), columns, more)


PULL, TAG = "pull request ", "tag "


def on_ref(ref: str) -> ColumnElement[bool]:
    """Runs of a branch, of a tag ("tag v1.0") or of a pull request ("pull request 7", which no branch shows)."""
    if ref.startswith(PULL) and ref.removeprefix(PULL).isdigit():
        return Run.pull_request == int(ref.removeprefix(PULL)[:9])
    if ref.startswith(TAG):
        return Run.tag == ref.removeprefix(TAG)
    return and_(Run.branch == ref, Run.pull_request.is_(None))


def run(site: Site, name: str, number: int) -> RunView:
    with site.store.transaction() as session:
        found = the_project(session, name)
        row = the_run(session, found, number)
        cells = cells_of(session, row.id)
        attempts = attempts_of(session, cells)
        base = session.get(Run, row.baseline_id) if row.baseline_id else None
        if base is None and row.verdict == "undecided":
            base = gate_baseline(site, session, row)
        waiting = queue_of(session, row.id) if any(c.state == "waiting" for c in cells) else {}
        shares = _share(row)
        covered = coverage_totals_of_attempts(session, list(attempts))
        return RunView(
            project=name,
            run=run_line(row),
            author_mail=row.author_mail,
            purpose=row.purpose,
            reason=row.reason,
            share_passed=shares[0],
            tests=shares[1],
            coverage=_coverage_view(session, row, base),
            baseline=run_line(base) if base else None,
            judged=[JudgedRule(**j) for j in row.judged],
            problems=[problem_view(p) for p in row.problems],
            cells=[
                _cell_view(c, attempts.get(c.attempt_id or 0), waiting.get(c.id), covered, row.created_at)
                for c in cells
            ],
            note=row.note,
            noted_at=row.noted_at,
            note_trouble=row.note_trouble,
            tag=row.tag,
            source=row.source,
            pull_request=row.pull_request,
            base=row.base,
            tested=row.tested or row.commit,
            changed_covered=percent(Fraction(*c)) if (c := row.measures.get("coverage.changed")) else None,
            left_out=[
                JobTold(**{**told, "blind": BlindView(**told["blind"]) if told.get("blind") else None})
                for told in row.left_out
            ],
            approvals=[
                ApprovalView(a.job, a.state, a.by, a.until, a.at)
                for a in session.scalars(select(Approval).where(Approval.run_id == row.id))
            ],
            controls=controls_of(session, row),
            open=_is_open(cells),
        )


def _is_open(cells: Sequence[Cell]) -> bool:
    return any(c.state in OPEN for c in cells)


def plan_text(site: Site, name: str, number: int) -> str:
    """The plan that a run was made by, empty when it had none."""
    with site.store.transaction() as session:
        return the_run(session, the_project(session, name), number).plan or ""


def problem_view(problem: dict[str, Any]) -> PlanProblem:
    return PlanProblem(**{**problem, "edits": [PlanEdit(**e) for e in problem.get("edits", ())]})


def attempt(site: Site, attempt_id: int) -> AttemptView:
    with site.store.transaction() as session:
        row = session.get(Attempt, attempt_id)
        if row is None:
            raise NotFound(f"there is no attempt {attempt_id}")
        cell = session.get_one(Cell, row.cell_id)
        run_row = session.get_one(Run, cell.run_id)
        planned = plan_of(run_row.plan)
        told = {s.position: s for s in session.scalars(select(Step).where(Step.attempt_id == attempt_id))}
        steps = [
            _step_view(told[i])
            if i in told
            else StepView(
                i,
                s.name,
                _command(s.command),
                "waiting" if row.state == "running" else "skipped",
                "" if row.state == "running" else "an earlier step failed",
                None,
                None,
                None,
                None,
                None,
            )
            for i, s in enumerate(planned.job(cell.job).steps if planned else ())
        ]
        reports = session.scalars(select(Report).where(Report.attempt_id == attempt_id).order_by(Report.number))
        earlier = session.scalars(
            select(Attempt.id)
            .where(Attempt.cell_id == cell.id, Attempt.number < row.number, Attempt.number > 0)
            .order_by(Attempt.number)
        )
        every = session.execute(
            select(Attempt.id, Attempt.number, Attempt.state, Control.place)
            .outerjoin(Control, Control.attempt_id == Attempt.id)
            .where(Attempt.cell_id == cell.id)
            .order_by((Attempt.number < 0), func.abs(Attempt.number))
        )
        others = [OtherAttempt(i, n, state, place or "") for i, n, state, place in every]
        return AttemptView(
            row.id, row.number, cell.job, cell.key, row.state, row.reason, row.runner, row.runtimes, row.created_at,
            row.started_at, row.ended_at, row.log_size, steps,
            [
                ReportView(r.id, r.content, r.kind, r.path, r.size, r.digest, r.total, r.passed, r.failed, r.errored,
                           r.skipped, r.seconds, r.problems, r.until)
                for r in reports
            ],
            list(earlier), next((o.control for o in others if o.id == row.id), ""), others,
        )  # fmt: skip


def files_of(site: Site, attempt_id: int) -> list[tuple[str, str]]:
    """Blob and path of every file that an attempt delivered, each path once."""
    with site.store.transaction() as session:
        rows = session.execute(
            select(Report.blob, Report.content, Report.path)
            .where(Report.attempt_id == attempt_id)
            .order_by(Report.number)
        ).all()
    found: dict[str, str] = {}
    for blob, content, path in rows:
        found.setdefault(f"{content}/{path}", blob)
    return [(blob, path) for path, blob in found.items()]


def report_source(site: Site, report_id: int) -> tuple[str, str]:
    """Where a raw report lies in the blobs, and its file name."""
    with site.store.transaction() as session:
        row = session.get(Report, report_id)
        if row is None:
            raise NotFound(f"there is no report {report_id}")
        return row.blob, row.path.rsplit("/", 1)[-1]


def pulse(site: Site) -> Load:
    with site.store.transaction() as session:
        return load(session)


def verdicts(site: Site, commit: str, project_name: str | None) -> list[VerdictView]:
    """The newest verdict of each purpose that a commit has, in each project that watches it."""
    with site.store.transaction() as session:
        newest: dict[tuple[int, str], Run] = {}
        for row in newest_run_of_commit(session, commit):
            newest.setdefault((row.project_id, row.purpose), row)
        views = []
        for row in newest.values():
            owner = session.get_one(Project, row.project_id)
            if project_name in (None, owner.name):
                views.append(
                    VerdictView(
                        owner.name,
                        row.purpose,
                        row.verdict,
                        row.sentence,
                        row.number,
                        site.run_address(owner.name, row.number),
                        row.ended_at is not None,
                    )
                )
        return views


def untested(site: Site, commit: str, project_name: str | None) -> list[str]:
    """Why a commit without a run has none, in each project that knows."""
    with site.store.transaction() as session:
        rows = session.execute(
            select(Project.name, Untested.reason)
            .join(Untested, Untested.project_id == Project.id)
            .where(Untested.commit == commit)
        )
        return [f"{name}: {reason}" for name, reason in rows if project_name in (None, name)]


DESK_RUNS = 30


def desk(site: Site) -> Desk:
    """What needs a decision now, and every project's newest runs."""
    with site.store.transaction() as session:
        found = list(session.scalars(select(Project).order_by(Project.name)))
        rows = [_desk_project(session, p) for p in found]
        stuck = [StuckCell(c.project, c.run, c.job, c.key, c.reason) for c in stuck_cells(session)]
        return Desk(rows, stuck, load(session))


def _desk_project(session: Session, p: Project) -> DeskProject:
    newest = list(
        session.scalars(
            select(Run)
            .where(Run.project_id == p.id, on_ref(p.main_branch))
            .order_by(Run.depth.desc(), Run.number.desc())
            .limit(DESK_RUNS)
        )
    )
    held = list(itertools.takewhile(lambda r: r.verdict != "clear", newest))
    marks: dict[int, list[str]] = {r.id: [] for r in newest}
    cells = select(Cell.run_id, Cell.mark).where(Cell.run_id.in_(list(marks))).order_by(Cell.run_id, Cell.position)
    for run_id, mark in session.execute(cells):
        marks[run_id].append(_LETTERS.get(mark, "w"))
    shares = coverage_totals_of(session, list(marks))
    runs = [
        DeskRun(r.number, r.title, r.verdict, "".join(marks[r.id]), _fraction(shares.get((r.id, ""))), _seconds(r))
        for r in reversed(newest)
    ]
    times = [r.seconds for r in runs if r.seconds is not None]
    first = next((r for r in reversed(held) if r.verdict == "held"), None)
    return DeskProject(
        _project_line(session, p), run_line(first) if first else None, runs, statistics.median(times) if times else None
    )


def _seconds(row: Run) -> float | None:
    return (
        (row.ended_at - row.created_at).total_seconds() if row.ended_at and row.verdict in ("clear", "held") else None
    )


def _project_line(session: Session, p: Project) -> ProjectLine:
    newest = session.scalar(
        select(Run)
        .where(Run.project_id == p.id, on_ref(p.main_branch))
        .order_by(Run.depth.desc(), Run.number.desc())
        .limit(1)
    )
    return ProjectLine(
        p.name,
        p.description,
        p.address,
        p.main_branch,
        p.hooked,
        p.looked_at,
        p.trouble,
        run_line(newest) if newest else None,
    )


def _counted(row: Run, measure: str) -> int:
    """A count of distinct tests: a test belongs to one job, so the jobs' counts add up."""
    return sum(job[measure] for job in row.measures.get("jobs", {}).values())


def _fraction(totals: Totals | None) -> float | None:
    return None if totals is None or totals.line_share is None else float(totals.line_share)


def _coverage_view(session: Session, row: Run, base: Run | None) -> CoverageView | None:
    found = coverage_totals_of(session, [row.id, *([base.id] if base else [])])
    now, before = found.get((row.id, "")), found.get((base.id, "")) if base else None
    if now is None or now.line_share is None:
        return None
    change = float((now.line_share - before.line_share) * 100) if before and before.line_share is not None else None
    return CoverageView(
        percent(now.line_share), now.lines_valid, now.lines_covered, now.branches_valid, now.branches_covered, change
    )


def _share(row: Run) -> tuple[str | None, int]:
    jobs = row.measures.get("jobs", {}).values()
    passed = sum(j["tests.passed"] for j in jobs)
    ran = passed + sum(j["tests.failed"] + j["tests.errored"] for j in jobs)
    return (percent(Fraction(passed, ran)) if ran else None), sum(j["tests.total"] for j in jobs)


def _cell_view(
    c: Cell,
    a: Attempt | None,
    queued: Queued | None,
    covered: dict[int, Totals],
    began: datetime,
) -> CellView:
    counts = c.counts
    reason = queued.reason if queued is not None else c.reason
    seconds = (a.ended_at - (a.started_at or a.created_at)).total_seconds() if a and a.ended_at else None
    return CellView(
        c.id,
        c.job,
        c.job_title,
        c.key,
        c.values,
        c.advisory,
        c.state,
        c.mark,
        reason,
        c.attempt_id,
        a.number if a else 0,
        a.runner if a else "",
        a.runtimes if a else {},
        seconds,
        (a.started_at or a.created_at) if a else None,
        counts.get("total", 0),
        counts.get("passed", 0),
        counts.get("failed", 0),
        counts.get("errored", 0),
        counts.get("skipped", 0),
        counts.get("new", 0),
        counts.get("known", 0),
        counts.get("fixed", 0),
        _fraction(covered.get(c.attempt_id or 0)),
        max(0.0, (a.created_at - began).total_seconds()) if a and c.reused is None else None,
        c.selected,
        c.gated,
        c.reused,
        counts.get("flaky", 0),
        c.predicted,
        queued.starts_in if queued is not None else None,
        queued.stuck if queued is not None else False,
    )


def _step_view(s: Step) -> StepView:
    return StepView(
        s.position, s.name, s.command, s.state, s.reason, s.exit_status, s.started_at, s.ended_at, s.log_from, s.log_to
    )


def _command(command: str | tuple[str, ...]) -> str:
    return command if isinstance(command, str) else " ".join(command)
