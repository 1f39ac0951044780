"""Conclude: a run's results beside its baseline, its rules judged, its verdict."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from fractions import Fraction
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import (
    Tally,
    tally,
)
from myriant.core.diagnosis.explain import explain
from myriant.core.gate.judge import DEFAULT_RULES, Judged, Measured, Verdict, beyond_repair, judge, verdict_of
from myriant.core.gate.marks import mark_of
from myriant.core.gate.sentence import NotedCell, NotedFailure, Told, commit_note, sentence, value_text
from myriant.core.plan.model import Plan, Rule
from myriant.core.results.model import Outcome
from myriant.core.results.titles import test_title
from myriant.flow.conclude.comparing import Compared, ancestors, compare_runs, family, runs_since
from myriant.flow.conclude.controls import plan_controls
from myriant.flow.conclude.coverage import changed_share, coverage_share, merge_coverage
from myriant.flow.conclude.learning import learn_moves, settle_quarantines
from myriant.flow.plans import plan_of
from myriant.flow.site import Site
from myriant.flow.state.advance import advance
from myriant.store.changes import tell
from myriant.store.coverage import (
    coverage_totals_of,
)
from myriant.store.queue import defer
from myriant.store.results import (
    Shown,
    all_not_passed,
)
from myriant.store.runs import OPEN, cells_of, newest_clear_run
from myriant.store.tables import Attempt, Cell, Project, Run


def conclude_run(site: Site, run_id: int, *, follow_up: bool = True) -> None:
    """Judge a run whose cells have all ended, and call for its announcement. Running twice gives the same verdict."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id, with_for_update=True)
        if run is None or run.verdict == "exempt":
            return
        every = cells_of(session, run_id)
        cells = [c for c in every if c.selected and not c.gated]
        project = session.get_one(Project, run.project_id)
        if not every or any(c.state in OPEN for c in cells):
            if run.verdict == "undecided" and _hold_early(site, session, run, cells):
                tell(session, "run", project.name, run.number)
            return
        if _superseded(run, cells):
            tell(session, "run", project.name, run.number)
            return
        nearest = ancestors(site, session, run)
        baseline = newest_clear_run(session, run, nearest, family(run))
        since = runs_since(session, run, baseline, nearest)
        compared = compare_runs(session, run, baseline, since)
        if learn_moves(session, run, compared.current, compared.baseline):
            compared = compare_runs(session, run, baseline, since)
        _judge(site, session, project, run, baseline, cells, compared)
        if follow_up and run.verdict == "held":
            binding = {(c.job, c.key) for c in cells if not c.advisory}
            plan_controls(session, run, baseline, {n: c for n, c in compared.cells.items() if n in binding})
        settle_quarantines(session, project, run)
        tell(session, "run", project.name, run.number)
        if follow_up:
            defer(session, "announce", lock=f"notes-{run.project_id}", run_id=run.id)
            plan = plan_of(run.plan)
            if plan is not None and any(c.gated for c in every):
                advance(session, run, plan)


def _hold_early(site: Site, session: Session, run: Run, cells: Sequence[Cell]) -> bool:
    """Hold a run whose cells have not all ended when nothing that is left can clear it."""
    ended = [c for c in cells if not c.advisory and c.state not in OPEN]
    if not any(c.state in ("failed", "void") for c in ended):
        return False
    nearest = ancestors(site, session, run)
    baseline = newest_clear_run(session, run, nearest, family(run))
    compared = compare_runs(session, run, baseline, ())
    plan = plan_of(run.rules) or plan_of(run.plan)
    by_job = {job: _tally_of(compared, job) for job in dict.fromkeys(c.job for c in cells)}
    now = {job: measures_of(t) for job, t in by_job.items()}

    def value_now(rule: Rule) -> Fraction | None:
        if rule.cells is not None or rule.measure.startswith("coverage."):
            return None
        return _value([now[j] for j in rule.jobs or now if j in now], rule.measure)

    judged = judge(_rules(plan), Measured(value_now, lambda _: None), _untrusted(ended), _failed_steps(ended))
    lost = beyond_repair(judged)
    if not lost:
        return False
    run.verdict, run.reason = "held", ""
    run.baseline_id = baseline.id if baseline is not None else None
    run.judged = [judged_json(j) for j in lost]
    _mark_cells(session, run.project_id, ended, compared)
    run.sentence = sentence(
        Told(
            verdict=Verdict.HELD, tally=_sum(by_job.values()), where=_where(ended, compared),
            first_here=_first_here(compared), judged=lost, cells=len(cells),
            cells_ended_well=sum(c.state in ("passed", "failed") for c in cells), seconds=0.0,
            baseline=baseline.commit[:7] if baseline is not None else None,
            open_cells=sum(c.state in OPEN for c in cells),
        )
    )  # fmt: skip
    return True


def _rules(plan: Plan | None) -> Sequence[Rule]:
    today = datetime.now(UTC).date()
    return [r for r in plan.rules if r.since is None or r.since <= today] if plan else DEFAULT_RULES


def _untrusted(binding: Sequence[Cell]) -> list[str]:
    return [f"{_named(c)}: {c.reason or c.state}" for c in binding if c.state not in ("passed", "failed")]


def _failed_steps(binding: Sequence[Cell]) -> list[str]:
    return [
        f"step {', '.join(c.counts['unexplained'])} failed in {_named(c)}"
        for c in binding
        if c.counts.get("unexplained")
    ]


def _superseded(run: Run, cells: Sequence[Cell]) -> bool:
    """Whether a newer event stopped the run before it could be judged; it then stays undecided and says so."""
    why = next((c.reason for c in cells if c.state == "stopped" and c.reason.startswith("superseded")), None)
    if why is None or run.verdict == "held":
        return False
    run.state, run.reason, run.ended_at = "stopped", why, run.ended_at or func.now()
    run.sentence = f"Undecided: {why} before it was judged."
    return True


def _judge(
    site: Site,
    session: Session,
    project: Project,
    run: Run,
    baseline: Run | None,
    cells: Sequence[Cell],
    compared: Compared,
) -> None:
    plan = plan_of(run.rules) or plan_of(run.plan)
    by_job = {job: _tally_of(compared, job) for job in dict.fromkeys(c.job for c in cells)}
    total = _sum(by_job.values())
    binding = [c for c in cells if not c.advisory]
    untrusted = _untrusted(binding)
    if not untrusted and total.results_total == 0:
        untrusted = ["the run has not one test"]
    failed_steps = _failed_steps(binding)
    coverage = merge_coverage(session, project.id, run, binding, compared)
    changed = changed_share(site, session, project, run, baseline, coverage)
    now = {job: measures_of(t) for job, t in by_job.items()}
    before: Mapping[str, Any] = baseline.measures.get("jobs", {}) if baseline is not None else {}
    values = {(c.job, c.key): {**c.values, "job": c.job} for c in binding}

    def line_share(of: Run | None, jobs: Sequence[str], folder: str | None = None) -> Fraction | None:
        if of is None or (of is run and coverage is None):
            return None
        return coverage_share(session, of, jobs, folder)

    def value_now(rule: Rule) -> Fraction | None:
        if rule.measure == "coverage.line":
            return line_share(run, rule.jobs, rule.folder)
        if rule.measure == "coverage.changed":
            return changed(rule.jobs, rule.folder)
        if rule.cells is None:
            return _value([now[j] for j in rule.jobs or now if j in now], rule.measure)
        within = {
            name: outcomes
            for name, outcomes in compared.current.items()
            if rule.cells.holds(values.get(name, {})) and (not rule.jobs or name[0] in rule.jobs)
        }
        return (
            _value([measures_of(tally(within, {n: compared.cells[n] for n in within}))], rule.measure)
            if within
            else None
        )

    def value_before(rule: Rule) -> Fraction | None:
        if rule.measure.startswith("coverage."):
            return line_share(baseline, rule.jobs, rule.folder) if rule.measure == "coverage.line" else None
        return _value([before[j] for j in rule.jobs or before if j in before], rule.measure) if before else None

    judged = judge(
        _rules(plan),
        Measured(value_now, value_before),
        untrusted,
        failed_steps,
    )
    verdict = verdict_of(judged)
    run.baseline_id = baseline.id if baseline is not None else None
    run.ended_at = run.ended_at or datetime.now(UTC)
    states = {c.state for c in binding}
    run.state = next((s for s in ("failed", "void", "stopped", "skipped") if s in states), "passed")
    share = changed((), None)
    run.measures = {
        "jobs": now,
        **({"coverage.changed": [share.numerator, share.denominator]} if share is not None else {}),
    }
    new = _mark_cells(session, project.id, cells, compared)
    short = baseline.commit[:7] if baseline is not None else None
    began = run.started_at or run.created_at
    run.sentence = sentence(
        Told(
            verdict=verdict,
            tally=total,
            where=_where(binding, compared),
            first_here=_first_here(compared),
            judged=judged,
            cells=len(cells),
            cells_ended_well=sum(c.state in ("passed", "failed") for c in cells),
            seconds=max(0.0, (run.ended_at - began).total_seconds()),
            baseline=short,
            coverage=coverage,
            coverage_before=line_share(baseline, ()),
            retests=sum(c.counts.get("retested", 0) for c in cells),
            reruns=_reruns(session, cells),
        )
    )
    same = sorted({c.reused for c in cells if c.reused is not None})
    if same:
        share_of = "" if all(c.reused is not None for c in cells) else " in part"
        run.sentence += f" Same content{share_of} as {', '.join(f'#{n}' for n in same)}."
    if run.wish.get("said"):
        run.sentence += f" {run.wish['said']}."
    whole = coverage_totals_of(session, [run.id]).get((run.id, ""))
    covered = (whole.lines_covered, whole.lines_valid) if whole is not None else None
    run.verdict = verdict.value
    run.reason = ""
    run.judged = [judged_json(j) for j in judged]
    run.note = commit_note(
        verdict=verdict,
        purpose=run.purpose,
        branch=run.branch,
        address=site.run_address(project.name, run.number),
        number=run.number,
        said=run.sentence,
        baseline=f"{baseline.commit} (#{baseline.number})" if baseline is not None else None,
        judged=judged,
        cells=[_noted(c) for c in cells],
        new=new,
        coverage=covered,
    )


def _reruns(session: Session, cells: Sequence[Cell]) -> int:
    """Attempts with a result that a person had made again."""
    trusted = Attempt.state.in_(("passed", "failed"))
    query = select(func.count()).where(
        Attempt.cell_id.in_([c.id for c in cells]), trusted, Attempt.number > 0,
        Attempt.id.not_in([c.attempt_id or 0 for c in cells]),
    )  # fmt: skip
    return session.scalar(query) or 0


def _tally_of(compared: Compared, job: str) -> Tally:
    mine = {name: outcomes for name, outcomes in compared.current.items() if name[0] == job}
    return tally(mine, {name: compared.cells[name] for name in mine})


def _sum(tallies: Any) -> Tally:
    total = Tally()
    for t in tallies:
        total = Tally(**{f: getattr(total, f) + getattr(t, f) for f in Tally.__dataclass_fields__})
    return total


def measures_of(counts: Tally) -> dict[str, int]:
    """The counts of a job by the names of their measures."""
    return {f.replace("_", ".", 1): getattr(counts, f) for f in Tally.__dataclass_fields__}


def _value(jobs: Sequence[Mapping[str, Any]], measure: str) -> Fraction | None:
    """A measure over jobs: a test belongs to one job, so counts add up."""
    if measure == "tests.share-passed":
        passed = sum(j["tests.passed"] for j in jobs)
        ran = passed + sum(j["tests.failed"] + j["tests.errored"] for j in jobs)
        return Fraction(passed, ran) if ran else None
    if not all(measure in j for j in jobs):
        return None
    return Fraction(sum(j[measure] for j in jobs))


def _where(cells: Sequence[Cell], compared: Compared) -> str | None:
    """The selector that explains which cells have new failures, when they are all of one job."""
    flagged = {name for name, c in compared.cells.items() if c.new.any()}
    jobs = {job for job, _ in flagged}
    if len(jobs) != 1:
        return None
    ran = [c for c in cells if c.job in jobs and (c.job, c.key) in compared.cells]
    told = explain([c.values for c in ran], [(c.job, c.key) in flagged for c in ran])
    return told.selector if told.exact else None


def _first_here(compared: Compared) -> int:
    tests: set[int] = set()
    for c in compared.cells.values():
        if c.first_here:
            tests |= set(np.flatnonzero(c.new).tolist())
    return len(tests)


def _mark_cells(session: Session, project_id: int, cells: Sequence[Cell], compared: Compared) -> list[NotedFailure]:
    """Give each cell its mark and counts; the new failures, in the order of the plan."""
    rows = all_not_passed(session, project_id, list(compared.attempts.values()))
    by_attempt: dict[int, list[Shown]] = {}
    for row in rows:
        by_attempt.setdefault(row.attempt_id, []).append(row)
    noted = []
    for cell in cells:
        result = compared.cells.get((cell.job, cell.key))
        if result is None:
            cell.mark = (
                "advisory-" + cell.mark if cell.advisory and not cell.mark.startswith("advisory-") else cell.mark
            )
            continue
        cell.counts = {
            **cell.counts,
            "new": int(result.new.sum()),
            "known": int(result.known.sum()),
            "fixed": int(result.fixed.sum()),
            "vanished": int(result.vanished.sum()),
            "first": result.first_here,
            "quarantined": int(result.quarantined.sum()),
            "flaky": int((compared.current[(cell.job, cell.key)] == Outcome.FLAKY).sum()),
        }
        cell.mark = mark_of(
            cell.state, result, unexplained=bool(cell.counts.get("unexplained")), flaky=bool(cell.counts["flaky"])
        )
        noted += [
            NotedFailure(cell.job, cell.key, test_title(row.suite, row.klass, row.name), row.message)
            for row in by_attempt.get(compared.attempts[(cell.job, cell.key)], [])
            if result.new[row.number]
        ]
    return noted


def judged_json(j: Judged) -> dict[str, Any]:
    rule = j.rule
    limit = j.limit if rule.limit == "baseline" else rule.limit
    assert limit != "baseline"
    return {
        "name": rule.name,
        "measure": rule.measure,
        "sign": rule.sign,
        "level": rule.level,
        "line": rule.line,
        "met": j.met,
        "reason": j.reason,
        "value": None if j.value is None else value_text(rule.measure, j.value, limit),
        "limit": None if limit is None else value_text(rule.measure, limit, None),
        "against_baseline": rule.limit == "baseline",
    }


def _named(cell: Cell) -> str:
    return f"{cell.job} {cell.key}".strip()


def _noted(cell: Cell) -> NotedCell:
    counts = cell.counts
    return NotedCell(
        cell.job, cell.key, cell.state, cell.reason,
        counts.get("passed", 0), counts.get("failed", 0), counts.get("errored", 0), counts.get("skipped", 0),
    )  # fmt: skip
