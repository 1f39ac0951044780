"""Conclude: a run's results beside its baseline, its rules judged, its verdict."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from fractions import Fraction
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import FileCoverage, Totals
from myriant.core.diagnosis.compare import (
    CellComparison,
    CellName,
    RunOutcomes,
    Tally,
    compare,
    renamed,
    tally,
    with_earlier,
    without_failures,
)
from myriant.core.diagnosis.explain import explain
from myriant.core.gate.judge import DEFAULT_RULES, Judged, Measured, Verdict, beyond_repair, judge, verdict_of
from myriant.core.gate.sentence import NotedCell, NotedFailure, Told, commit_note, sentence, value_text
from myriant.core.plan.model import Plan, Rule
from myriant.core.results.model import Outcome
from myriant.flow.advance import advance
from myriant.flow.controls import plan_controls
from myriant.flow.plans import plan_of
from myriant.flow.remembering import learn_moves, settle_quarantines
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.changes import tell
from myriant.store.coverage import (
    coverage_files_of_attempts,
    coverage_totals_of,
    keep_coverage,
    merged_coverage_of,
)
from myriant.store.history import moves_of, quarantined_tests, set_aside_at
from myriant.store.queue import defer
from myriant.store.results import (
    Shown,
    all_not_passed,
    earlier_attempts,
    failing_outcomes_of,
    outcomes_of,
    trusted_attempts,
)
from myriant.store.runs import OPEN, cells_of, judged_runs_of, newest_clear_run
from myriant.store.tables import Attempt, Cell, Project, Run

MOST_SINCE = 50  # commits looked back for what a repair fixed
MOST_COMPARED = 5  # of their runs, the nearest: enough for cells that the very nearest lacks


@dataclass(frozen=True, slots=True)
class Compared:
    """A run beside a baseline."""

    current: RunOutcomes
    baseline: RunOutcomes | None
    cells: Mapping[CellName, CellComparison]
    attempts: Mapping[CellName, int]


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


def gate_baseline(site: Site, session: Session, run: Run) -> Run | None:
    """The newest first-parent ancestor whose verdict for the same purpose was clear."""
    return newest_clear_run(session, run, ancestors(site, session, run), family(run))


def ancestors(site: Site, session: Session, run: Run) -> list[str]:
    """Commits that a run can be compared with, nearest first: its first parents, or a pull request's target."""
    project = session.get_one(Project, run.project_id)
    try:
        if run.base:
            return site.mirror(project).first_parents(run.base)
        return site.mirror(project).first_parents(run.commit)[1:]
    except GitError:
        return []


def runs_since(session: Session, run: Run, baseline: Run | None, nearest: Sequence[str]) -> Sequence[Run]:
    """Judged runs on those of the `nearest` ancestors that come after the baseline, the nearest first."""
    if baseline is not None and baseline.commit in nearest:
        nearest = nearest[: nearest.index(baseline.commit)]
    places = {commit: i for i, commit in enumerate(nearest[:MOST_SINCE])}
    found = [r for r in judged_runs_of(session, run.project_id, list(places)) if r.purpose == family(run)]
    return sorted(found, key=lambda r: (places[r.commit], -r.number))


def compare_runs(session: Session, run: Run, baseline: Run | None, since: Sequence[Run]) -> Compared:
    """Compare the trusted, non-advisory cells of a run with the same cells of its baseline."""
    attempts = trusted_attempts(session, run)
    current = _by_cell(attempts, outcomes_of(session, list(attempts.values())))
    for name, earlier in earlier_attempts(session, run).items():
        if name in current:
            current[name] = with_earlier(current[name], list(outcomes_of(session, earlier).values()))
    pairs = [(m.now, m.before) for m in moves_of(session, run.project_id).values()]
    before: RunOutcomes | None = None
    if baseline is not None:
        found = trusted_attempts(session, baseline)
        aside = set_aside_at(session, run.project_id, baseline.ended_at or baseline.created_at)
        then = _by_cell(found, outcomes_of(session, list(found.values())))
        before = renamed(without_failures(then, aside), pairs)
    between: list[RunOutcomes] = []
    for other in since[:MOST_COMPARED]:
        found = trusted_attempts(session, other)
        between.append(renamed(_by_cell(found, failing_outcomes_of(session, list(found.values()))), pairs))
    aside = list(quarantined_tests(session, run.project_id))
    return Compared(current, before, compare(current, before, between, aside), attempts)


def _by_cell(attempts: Mapping[CellName, int], outcomes: Mapping[int, Any]) -> dict[CellName, Any]:
    return {name: outcomes[attempt] for name, attempt in attempts.items()}


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
    coverage = _merge_coverage(session, project.id, run, binding, compared)
    changed = _changed_share(site, session, project, run, baseline, coverage)
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


def family(run: Run) -> str:
    """The purpose whose verdicts a run is compared with: a schedule's own, uploads with uploads, else pushes."""
    return run.purpose if run.event in ("schedule", "upload") else "push"


def _changed_share(
    site: Site, session: Session, project: Project, run: Run, baseline: Run | None, coverage: Fraction | None
) -> Callable[[Sequence[str], str | None], Fraction | None]:
    """Covered ÷ coverable lines among those changed since the baseline's commit, by jobs; all of none is 1."""
    before = run.base or (baseline.commit if baseline is not None else None)
    plan = plan_of(run.rules) or plan_of(run.plan)
    wanted = plan is not None and any(r.measure == "coverage.changed" for r in plan.rules)
    if before is None or coverage is None or not (wanted or run.base):
        return lambda jobs, folder: None
    try:
        lines = site.mirror(project).changed_lines(before, run.tested or run.commit)
    except GitError:
        return lambda jobs, folder: None

    def share(jobs: Sequence[str], folder: str | None) -> Fraction | None:
        files = merge_files(merged_coverage_of(session, run.id, list(jobs) or [""]).values())
        valid = covered = 0
        for path, changed in lines.items():
            file = files.get(path)
            if file is None or not _below(path, folder):
                continue
            touched = np.isin(file.lines, list(changed))
            valid, covered = valid + int(touched.sum()), covered + int((file.hits[touched] > 0).sum())
        return Fraction(covered, valid) if valid else Fraction(1)

    return share


def _merge_coverage(
    session: Session, project_id: int, run: Run, cells: Sequence[Cell], compared: Compared
) -> Fraction | None:
    """Merge the cells' coverage by job and over all; the line share, None when some of it is missing."""
    by_attempt = coverage_files_of_attempts(session, list(compared.attempts.values()))
    by_job: dict[str, list[Mapping[str, FileCoverage]]] = {}
    for (job, _), attempt in compared.attempts.items():
        if attempt in by_attempt:
            by_job.setdefault(job, []).append(by_attempt[attempt])
    merged = {job: merge_files(parts) for job, parts in by_job.items()}
    for job, files in merged.items():
        keep_coverage(session, project_id, run.id, job, None, files)
    whole = merge_files(merged.values())
    keep_coverage(session, project_id, run.id, "", None, whole)
    if any(c.counts.get("coverage_trouble") for c in cells):
        return None
    return sum((f.totals for f in whole.values()), Totals()).line_share


def _below(path: str, folder: str | None) -> bool:
    return folder is None or path.startswith(folder.strip("/").removeprefix("./") + "/")


def coverage_share(session: Session, run: Run, jobs: Sequence[str], folder: str | None = None) -> Fraction | None:
    """The line share of a judged run, merged over some jobs (none given: all), of one folder's files (None: of all)."""
    if len(jobs) <= 1 and folder is None:
        totals = coverage_totals_of(session, [run.id]).get((run.id, jobs[0] if jobs else ""))
        return totals.line_share if totals is not None else None
    files = merge_files(merged_coverage_of(session, run.id, list(jobs) or [""]).values())
    return sum((f.totals for path, f in files.items() if _below(path, folder)), Totals()).line_share


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


def mark_of(state: str, result: CellComparison, *, unexplained: bool, flaky: bool = False) -> str:
    """The one mark that says most about a cell."""
    if state not in ("passed", "failed"):
        return state
    if unexplained or (result.new.any() and not result.first_here):
        return "new"
    if result.new.any():
        return "first"
    if result.known.any():
        return "known"
    if result.quarantined.any():
        return "quarantined"
    if flaky:
        return "flaky"
    return "fixed" if result.fixed.any() else state


def test_title(suite: str, klass: str, name: str) -> str:
    """A test as people name it: its class, or its suite where there is none, and its name."""
    return f"{klass or suite} › {name}" if klass or suite else name


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
