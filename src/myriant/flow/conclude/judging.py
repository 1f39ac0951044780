"""Conclude: a run's results beside its baselines, its rules judged, its verdict."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from fractions import Fraction

from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import Tally
from myriant.core.gate.judge import (
    Evidence,
    Judged,
    Measured,
    Reason,
    Waived,
    beyond_repair,
    good_jobs,
    judge,
    verdict_of,
)
from myriant.core.gate.measures import measures_of, sum_of, tally_of_job, value_of
from myriant.core.plan.model import BuiltIn, Plan, Rule
from myriant.core.states import OPEN, TRUSTED, EventKind, State, Verdict, Why
from myriant.flow.compare.baseline_coverage import covered_before
from myriant.flow.compare.baselines import ancestors, gate_baselines, sent_baselines
from myriant.flow.compare.outcomes import MOST_COMPARED, Compared, compare_run, runs_since
from myriant.flow.compare.supply import supply
from myriant.flow.conclude.controls import plan_controls
from myriant.flow.conclude.coverage import changed_share, merge_coverage
from myriant.flow.conclude.learning import learn_moves, settle_quarantines, settle_takings
from myriant.flow.conclude.lessening import Lessened, keep_lasting, lessened
from myriant.flow.conclude.measuring import Known, of_jobs, seconds_of
from myriant.flow.conclude.steps import explain_anew
from myriant.flow.conclude.telling import early_sentence, tell_run
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.flow.state import runs
from myriant.flow.state.advance import advance
from myriant.flow.state.cells import keep_waiting
from myriant.flow.state.exemptions import grounds_lost, stand_anew
from myriant.store.cells import cells_of
from myriant.store.changes import tell_of_run
from myriant.store.coverage import is_measured_in_part
from myriant.store.judged import job_results_of, judged_rules
from myriant.store.records import Measures, RunWish
from myriant.store.tables import Cell, Project, Run
from myriant.store.waivers import waivers_for


@dataclass(frozen=True, slots=True)
class Beside:
    """A run with all that it is judged by."""

    run: Run
    plan: Plan | None
    cells: Sequence[Cell]  # before the verdict, of the sample
    compared: Compared
    lessened: Lessened
    tallies: Mapping[str, Tally]  # by job
    since: Sequence[int]  # runs between the baselines and this one
    nearest: Sequence[str]  # ancestors, the nearest first
    lost: Mapping[str, str]  # by job whose results were brought along, why they hold no more

    @property
    def binding(self) -> list[Cell]:
        return [c for c in self.cells if not c.advisory]

    @property
    def total(self) -> Tally:
        return sum_of(self.tallies.values())

    def measures(self) -> dict[str, dict[str, int]]:
        """Every job's counts by the names of their measures."""
        less = (
            ("tests.vanished", self.lessened.vanished),
            ("tests.removed", self.lessened.removed),
            ("tests.newly-skipped", self.lessened.newly_skipped),
        )
        return {
            job: {**measures_of(t), **{name: len(by_job.get(job, ())) for name, by_job in less}}
            for job, t in self.tallies.items()
        }


def conclude_run(site: Site, run_id: int, *, follow_up: bool = True) -> None:
    """Judge a run whose cells have all ended, and call for its announcement. Running twice gives the same verdict."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id, with_for_update=True)
        if (
            run is None
            or run.verdict == Verdict.NONE
            or ((run.verdict == Verdict.EXEMPT or run.why == Why.EXCUSED) and not run.judged)
        ):
            return
        every = cells_of(session, run_id)
        cells = [c for c in every if c.selected and not c.gated]
        project = session.get_one(Project, run.project_id)
        open_cells = [c for c in cells if c.state in OPEN]
        left_out = _nobody_can_run(session, run, open_cells)
        still_open = len(open_cells) > len(left_out)
        if not every or (still_open and run.verdict not in (Verdict.UNDECIDED, Verdict.HELD)):
            return
        superseded = next((c for c in cells if c.state == State.STOPPED and c.why == Why.SUPERSEDED), None)
        if superseded is not None and not still_open and run.verdict != Verdict.HELD:
            runs.supersede(run, superseded.reason)
            tell_of_run(session, run)
            return
        if still_open and not any(c.state in (State.FAILED, State.VOID) and not c.advisory for c in cells):
            return
        nearest = ancestors(site, project, run)
        beside = _beside(site, session, project, run, cells, nearest, early=still_open)
        if still_open:
            before = run.verdict
            if _hold_early(session, beside):
                if before != Verdict.HELD:
                    runs.call_for_telling(session, run)
                tell_of_run(session, run)
            return
        _judge(site, session, project, beside)
        if follow_up and run.verdict == Verdict.HELD:
            binding = {(c.job, c.key) for c in beside.binding}
            found = {n: c for n, c in beside.compared.cells.items() if n in binding}
            plan_controls(session, run, beside.compared.baselines, found)
        stand_anew(session, [run.id])
        settle_quarantines(session, project, run)
        if run.wish == RunWish():
            settle_takings(session, run, beside.compared)
        tell_of_run(session, run)
        if follow_up:
            runs.call_for_announcement(session, run)
            if beside.plan is not None and any(c.gated for c in every):
                advance(session, run, beside.plan)


def _nobody_can_run(session: Session, run: Run, cells: Sequence[Cell]) -> list[Cell]:
    """Advisory cells that no runner can take: they keep no verdict open."""
    if not cells or not all(c.advisory and c.state == State.WAITING for c in cells):
        return []
    known = supply(session)
    stuck = [c for c in cells if c.ready and known.refusal(c.wants, run.project_id) is not None]
    for cell in stuck:
        keep_waiting(cell, Why.NOTHING, f"left out of the verdict: {known.refusal(cell.wants, run.project_id)}")
    return stuck


def _beside(
    site: Site,
    session: Session,
    project: Project,
    run: Run,
    cells: Sequence[Cell],
    nearest: Sequence[str],
    *,
    early: bool,
) -> Beside:
    plan = plan_of_run(session, run)
    jobs = {c.job for c in cells}
    planned = [j for j in plan.jobs if j.id in jobs] if plan is not None else []
    sent = run.event == EventKind.UPLOAD
    baselines = sent_baselines(session, run, nearest, jobs) if sent else gate_baselines(session, run, nearest, planned)
    since = () if early else runs_since(session, run, baselines, nearest)[:MOST_COMPARED]
    compared = compare_run(session, run, baselines, since)
    if not early and learn_moves(site, session, project, run, compared):
        compared = compare_run(session, run, baselines, since)
    binding = [c for c in cells if not c.advisory]
    whole = plan is None or plan.level_of(BuiltIn.STEPS) == "block"  # else what a failed step kept back is missed
    cut = {c.job for c in binding if c.state not in TRUSTED or (whole and c.counts.unexplained)}
    explain_anew(site, session, run, cells)
    less = Lessened() if early else lessened(site, session, project, run, compared, nearest, jobs - cut)
    tallies = {job: tally_of_job(compared.current, compared.cells, job) for job in dict.fromkeys(c.job for c in cells)}
    return Beside(run, plan, cells, compared, less, tallies, [r.id for r in since], nearest, grounds_lost(session, run))


def _hold_early(session: Session, beside: Beside) -> bool:
    """Hold a run whose cells have not all ended when nothing that is left can clear it."""
    now = beside.measures()

    def value_now(rule: Rule) -> Fraction | None:
        if rule.cells is not None or rule.kinds or rule.measure not in _COUNTS:
            return None
        return value_of(of_jobs(now, rule) or [], rule.measure)

    waivers = waivers_for(session, beside.run)
    measured = Measured(value_now, lambda _: None)
    rules, settling = _rules(beside.plan), _settling(session, beside)
    judged, kept = _causes_first(beside, rules, measured, waivers, settling, lambda j: bool(beyond_repair(j)))
    lost = beyond_repair(judged)
    if not lost:
        return False
    early_sentence(session, beside.run, beside.cells, beside.compared, beside.total, now, lost, kept)
    runs.hold_early(beside.run)
    return True


_COUNTS = frozenset(measures_of(Tally()))


def _causes_first(
    beside: Beside,
    rules: Sequence[Rule],
    measured: Measured,
    waivers: Mapping[str, Sequence[Waived]],
    settling: Mapping[str, int],
    holds: Callable[[Sequence[Judged]], bool],
) -> tuple[list[Judged], list[str]]:
    """The rules judged by causes alone, and the jobs that did not run for them.

    What follows from a cause counts itself where no cause holds the run: never a pass by accident.
    """
    following = [c for c in beside.binding if follows(c)]
    if following:
        judged = judge(beside.plan, rules, measured, _evidence(beside, following), waivers, settling)
        if holds(judged):
            return judged, list(dict.fromkeys(c.job for c in following if c.why == Why.AFTER))
    return judge(beside.plan, rules, measured, _evidence(beside, ()), waivers, settling), []


def follows(cell: Cell) -> bool:
    """Whether a cell has no result for another's sake, or lacks a report that its own failed step did not write."""
    if cell.state == State.SKIPPED:
        return cell.why == Why.AFTER
    return cell.state == State.VOID and cell.why == Why.STEP


def _evidence(beside: Beside, following: Sequence[Cell]) -> Evidence:
    ended = [c for c in beside.binding if c.state not in OPEN]
    no_cell = not any(c.state in TRUSTED for c in beside.binding) and not ended and not beside.cells
    sizes = Counter(c.job for c in beside.binding)
    left = {c.id for c in following}
    bad = [c for c in ended if c.state not in TRUSTED and c.id not in left]
    untrusted = [Reason(c.reason or str(c.state), c.job, c.key, sizes[c.job]) for c in bad]
    untrusted += [Reason(f"{job} was not tested here: {reason}", job) for job, reason in beside.lost.items()]
    steps = [Reason(said, c.job, c.key, sizes[c.job]) for c in ended for said in c.counts.unexplained]
    new = {job: t.tests_new for job, t in beside.tallies.items()}
    less = beside.lessened
    return Evidence(
        [*untrusted, *([Reason("nothing of it ran")] if no_cell else [])],
        steps,
        less.loosened,
        new,
        {job: len(t) for job, t in less.vanished.items()},
        {job: len(t) for job, t in less.newly_skipped.items()},
        len(left),
    )


def _rules(plan: Plan | None) -> Sequence[Rule]:
    today = datetime.now(UTC).date()
    return [r for r in plan.rules if r.since is None or r.since <= today] if plan else ()


def _settling(session: Session, beside: Beside) -> Mapping[str, int]:
    """In how many runs those rules were judged that only warn at first."""
    names = [r.name for r in _rules(beside.plan) if r.after_runs]
    return judged_rules(session, beside.run, names) if names else {}


def _judge(site: Site, session: Session, project: Project, beside: Beside) -> None:
    run, compared = beside.run, beside.compared
    baseline = compared.nearest
    then = covered_before(site, project, compared.baselines, baseline)
    coverage = merge_coverage(session, project.id, run, beside.binding, compared, then, beside.plan)
    changed = changed_share(site, session, project, run, then, coverage)
    now = beside.measures()
    known = Known(run, compared, now, len(beside.lessened.loosened), coverage, changed, then, beside.binding)
    waivers = waivers_for(session, run)
    rules, settling = _rules(beside.plan), _settling(session, beside)
    holds = lambda found: verdict_of(found) is Verdict.HELD  # noqa: E731
    judged, kept = _causes_first(beside, rules, known.measured(session), waivers, settling, holds)
    verdict = verdict_of(judged)
    if verdict is Verdict.CLEAR and beside.binding and all(c.why == Why.BROUGHT_ALONG for c in beside.binding):
        verdict = Verdict.EXEMPT  # nothing had to run, and what the plan asks less was accepted
    states = {State(c.state) for c in beside.binding}
    worst = (State.FAILED, State.VOID, State.STOPPED, State.SKIPPED)
    runs.conclude(run, next((s for s in worst if s in states), State.PASSED), verdict, datetime.now(UTC))
    run.baseline_id = baseline.id if baseline is not None else None
    share, took = changed.share((), None), seconds_of(session, beside.binding)
    run.measures = Measures(
        jobs=now,
        since=tuple(beside.since),
        aside=compared.aside,
        less=beside.lessened.told(),
        loosened=tuple(beside.lessened.loosened),
        accepted=tuple(beside.lessened.accepted),
        coverage_changed=(share.numerator, share.denominator) if share is not None else None,
        seconds=float(took) if took is not None else None,
        uncovered=tuple(changed.uncovered),
    )
    _keep_jobs(session, beside, judged)
    keep_lasting(session, run, beside.lessened, compared, beside.nearest)
    part = baseline is not None and is_measured_in_part(session, run, baseline)
    before = None if part else then.share(session)
    tell_run(
        site, session, project, beside.cells, compared, beside.plan, beside.lessened, judged, coverage, before, kept
    )


def _keep_jobs(session: Session, beside: Beside, judged: Sequence[Judged]) -> None:
    """Whether each job can be trusted and held nobody up: what later runs find as their baseline."""
    rows = job_results_of(session, beside.run.id)
    good = good_jobs(list(beside.tallies), judged)
    for job, row in rows.items():
        mine = [c for c in beside.binding if c.job == job]
        if not mine or all(c.why == Why.BROUGHT_ALONG for c in mine):
            continue  # it is its ground that later runs find
        row.trusted = all(c.state in TRUSTED for c in mine)
        row.good = row.trusted and job in good
        base = beside.compared.baselines.get(job)
        row.baseline_id = base.id if base is not None else None
