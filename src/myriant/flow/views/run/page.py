"""A run with all that its page shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.coverage.model import Totals
from myriant.core.gate.measures import share_passed
from myriant.core.states import OPEN, State
from myriant.core.written import percent
from myriant.flow.compare.released import what_it_would_release
from myriant.flow.diagnose.controls import ControlView, controls_of
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.flow.views.lines import RunLine, in_plan_order, is_undecided, jobs_told, run_line, so_far
from myriant.flow.views.plan.problems import BlindView, PlanProblem, problem_view
from myriant.flow.views.runners.queue import Queued, queue_of
from myriant.flow.views.strip import fraction_of
from myriant.flow.views.words import words_of
from myriant.store.attempts import attempts_of
from myriant.store.cells import cells_of
from myriant.store.coverage import coverage_totals_of, coverage_totals_of_attempts, is_measured_in_part
from myriant.store.judged import acceptances_in
from myriant.store.plans import plan_text
from myriant.store.records import Measures, RuleJudged
from myriant.store.results import tests_numbered
from myriant.store.runs import approvals_of
from myriant.store.tables import Attempt, Cell, Run


@dataclass(frozen=True, slots=True)
class WaivedView:
    """Who said that a rule need not hold, until when and why."""

    by: str
    until: datetime
    reason: str


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
    built_in: str | None = None
    best_of: int = 1  # against the best of so many baselines
    waived: WaivedView | None = None


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
    housekeeping: bool
    reused: int | None  # the run whose result this is
    flaky: int
    predicted: float | None  # seconds that it takes, by what it took before
    starts_in: float | None  # seconds until it is predicted to start
    stuck: bool  # no runner can take it


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
class JobTold:
    """What a run says of a job beside its cells: why it does not run, why it does, what its sample hides."""

    job: str
    title: str
    reason: str = ""
    because: str = ""
    blind: BlindView | None = None


@dataclass(frozen=True, slots=True)
class AcceptedView:
    """What a person accepted in this run: a loosening, or a test that is less than it was."""

    kind: str
    subject: str
    reason: str
    by: str
    at: datetime


@dataclass(frozen=True, slots=True)
class Acceptable:
    """What a maintainer can accept here: lines of what the plan asks less, tests by their numbers."""

    loosened: list[str]
    tests: list[int]


@dataclass(frozen=True, slots=True)
class RunView:
    project: str
    run: RunLine
    author_mail: str
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
    accepted: list[AcceptedView]
    acceptable: Acceptable
    tag: str
    source: str
    pull_request: int | None
    base: str | None
    tested: str  # the commit that ran: a pull request's merge, else the commit itself
    changed_covered: str | None  # share of the changed lines that tests cover
    left_out: list[JobTold]
    taken: list[TakenView]
    approvals: list[ApprovalView]
    controls: list[ControlView]
    open: bool  # cells still wait or run


@dataclass(frozen=True, slots=True)
class TakenView:
    """Artifacts of another project's run that a job was given."""

    job: str
    project: str
    run: int
    paths: list[str]


@dataclass(frozen=True, slots=True)
class ApprovalView:
    job: str
    state: str  # waiting, given, refused, late
    by: str
    reason: str
    until: datetime
    at: datetime | None
    about: str  # what would be released


def run_view(site: Site, name: str, number: int) -> RunView:
    with site.store.view() as session:
        found = the_project(session, name)
        row = the_run(session, found, number)
        cells = cells_of(session, row.id)
        attempts = attempts_of(session, cells)
        base = session.get(Run, row.baseline_id) if row.baseline_id else None
        word = words_of(session, found.id, {row.commit})[row.commit]
        waiting = queue_of(session, row.id) if any(c.state == State.WAITING for c in cells) else {}
        shares, undecided = _share(row), is_undecided(row)
        measures = Measures() if undecided else row.measures
        covered = coverage_totals_of_attempts(session, list(attempts))
        return RunView(
            project=name,
            run=run_line(row, word, so_far(session, [row]).get(row.id, "")),
            author_mail=row.author_mail,
            reason=row.reason,
            share_passed=shares[0],
            tests=shares[1],
            coverage=None if undecided else _coverage_view(session, row, base),
            baseline=run_line(base) if base else None,
            judged=[] if undecided else [_judged_rule(j) for j in row.judged],
            problems=[problem_view(p) for p in row.problems],
            cells=[
                _cell_view(c, attempts.get(c.attempt_id or 0), waiting.get(c.id), covered, row.created_at)
                for c in cells
            ],
            note=row.noted,
            noted_at=row.noted_at,
            accepted=_accepted_in(session, found.id, row.number),
            acceptable=Acceptable(
                list(measures.loosened),
                [*measures.less.vanished, *measures.less.newly_skipped],
            ),
            note_trouble=row.note_trouble,
            tag=row.tag,
            source=row.source,
            pull_request=row.pull_request,
            base=row.base,
            tested=row.tested or row.commit,
            changed_covered=percent(c) if (c := measures.changed_share) is not None else None,
            left_out=[
                JobTold(**{**told, "blind": BlindView(**told["blind"]) if told.get("blind") else None})
                for told in row.left_out
            ],
            taken=_taken(row),
            approvals=[
                ApprovalView(a.job, a.state, a.by, a.reason, a.until, a.at, what_it_would_release(session, row))
                for a in approvals_of(session, row.id)
            ],
            controls=controls_of(session, row),
            open=_is_open(cells),
        )


def _taken(run: Run) -> list[TakenView]:
    found: dict[tuple[str, str, int], list[str]] = {}
    for t in run.taken:
        found.setdefault((t["job"], t["project"], t["run"]), []).append(t["path"])
    return [TakenView(*at, paths) for at, paths in found.items()]


def _judged_rule(j: RuleJudged) -> JudgedRule:
    waived = WaivedView(j.waived.by, j.waived.until, j.waived.reason) if j.waived is not None else None
    return JudgedRule(
        j.name,
        j.measure,
        j.sign,
        j.level,
        j.line,
        j.met,
        j.reason,
        j.value,
        j.limit,
        j.against_baseline,
        j.built_in,
        j.best_of,
        waived,
    )


def _is_open(cells: Sequence[Cell]) -> bool:
    return any(c.state in OPEN for c in cells)


def text_of_plan(site: Site, name: str, number: int) -> str:
    """The plan that a run was made by, empty when it had none."""
    with site.store.view() as session:
        return plan_text(session, the_run(session, the_project(session, name), number).plan_digest)


def _coverage_view(session: Session, row: Run, base: Run | None) -> CoverageView | None:
    found = coverage_totals_of(session, [row.id, *([base.id] if base else [])])
    now, before = found.get((row.id, "")), found.get((base.id, "")) if base else None
    if now is None or now.line_share is None:
        return None
    if base is not None and is_measured_in_part(session, row, base):
        before = None
    change = float((now.line_share - before.line_share) * 100) if before and before.line_share is not None else None
    return CoverageView(
        percent(now.line_share), now.lines_valid, now.lines_covered, now.branches_valid, now.branches_covered, change
    )


def _accepted_in(session: Session, project_id: int, number: int) -> list[AcceptedView]:
    """What people accepted in a run, each test by its name."""
    rows = acceptances_in(session, project_id, number)
    subjects = [row.subject.split("\n")[0] for row in rows]
    named = tests_numbered(session, project_id, [int(s) for s in subjects if s.isdigit()])
    return [
        AcceptedView(r.kind, named[int(s)].name if s.isdigit() and int(s) in named else s, r.reason, r.by, r.at)
        for r, s in zip(rows, subjects, strict=True)
    ]


def _share(row: Run) -> tuple[str | None, int]:
    jobs = jobs_told(row) if row.ended_at is not None else []
    share = share_passed(jobs)
    ran = sum(j["tests.passed"] + j["tests.failed"] + j["tests.errored"] for j in jobs)
    return (percent(share) if share is not None else None), ran


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
        in_plan_order(c.key, c.values),
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
        counts.total,
        counts.passed,
        counts.failed,
        counts.errored,
        counts.skipped,
        counts.new,
        counts.known,
        counts.fixed,
        fraction_of(covered.get(c.attempt_id or 0)),
        max(0.0, (a.created_at - began).total_seconds()) if a and c.reused is None else None,
        c.selected,
        c.gated,
        c.housekeeping,
        c.reused,
        counts.flaky,
        c.predicted,
        queued.starts_in if queued is not None else None,
        queued.stuck if queued is not None else False,
    )
