"""What is said of a judged run: its sentence, its rules, the marks of its cells, its block of the note."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import Tally
from myriant.core.diagnosis.explain import beyond_chance, explain
from myriant.core.gate.judge import Judged
from myriant.core.gate.marks import mark_of
from myriant.core.gate.measures import sum_of, tally_of_job
from myriant.core.gate.note import NotedCell, NotedFailure, block
from myriant.core.gate.sentence import EACH_SAID, Told, sentence, value_text
from myriant.core.plan.model import Plan
from myriant.core.results.model import Outcome
from myriant.core.results.titles import test_title
from myriant.core.states import OPEN, TRUSTED, State, Verdict, Why
from myriant.core.telling.outcome import Told as Cause
from myriant.core.written import counted
from myriant.flow.compare.levels import said_short, seen_with
from myriant.flow.compare.outcomes import Compared
from myriant.flow.conclude.lessening import Lessened
from myriant.flow.site import Site
from myriant.store.attempts import reruns_of
from myriant.store.coverage import coverage_totals_of
from myriant.store.records import Causes, JobCounts, Measures, RuleJudged, WaivedBy
from myriant.store.results import Shown, all_not_passed
from myriant.store.tables import Cell, Project, Run


def early_sentence(
    session: Session,
    run: Run,
    cells: Sequence[Cell],
    compared: Compared,
    total: Tally,
    now: dict[str, JobCounts],
    lost: Sequence[Judged],
    kept: Sequence[str],
) -> None:
    """A run that is held although some of its cells have not ended."""
    ended = [c for c in cells if c.state not in OPEN and not c.advisory]
    bad = sum(c.state in (State.FAILED, State.VOID) for c in ended)
    baseline = compared.nearest
    run.baseline_id = baseline.id if baseline is not None else None
    run.judged = tuple(rule_judged(j) for j in lost)
    new = mark_cells(session, run.project_id, [c for c in cells if c.state not in OPEN], compared)
    run.measures = replace(with_new(run.measures, new), early=now, aside=compared.aside)
    run.sentence = sentence(
        Told(
            verdict=Verdict.HELD,
            tally=total,
            where=_where(ended, compared),
            first_here=_first_here(compared),
            judged=lost,
            cells=len(cells),
            cells_ended_well=sum(c.state in TRUSTED for c in cells),
            seconds=0.0,
            baseline=_short(baseline),
            open_cells=sum(c.state in OPEN for c in cells),
            more_failing=bad >= EACH_SAID,
            kept=kept,
            asked=bool(run.context),
        )
    )


def tell_run(
    site: Site,
    session: Session,
    project: Project,
    cells: Sequence[Cell],
    compared: Compared,
    plan: Plan | None,
    less: Lessened,
    judged: Sequence[Judged],
    coverage: Fraction | None,
    before: Fraction | None,
    kept: Sequence[str],
) -> None:
    """Say all that is known of a judged run."""
    run = _run_of(session, cells)
    total = sum_of(tally_of_job(compared.current, compared.cells, job) for job in dict.fromkeys(c.job for c in cells))
    new = mark_cells(session, project.id, cells, compared)
    baseline, began = compared.nearest, run.started_at or run.created_at
    ended = run.ended_at or began
    run.sentence = sentence(
        Told(
            verdict=Verdict(run.verdict),
            tally=total,
            where=_where([c for c in cells if not c.advisory], compared),
            first_here=_first_here(compared),
            judged=judged,
            cells=len(cells),
            cells_ended_well=sum(c.state in TRUSTED for c in cells),
            seconds=max(0.0, (ended - began).total_seconds()),
            baseline=_short(baseline),
            removed=sum(len(t) for t in less.removed.values()),
            tests=plan is None or plan.collects_tests,
            coverage=coverage,
            coverage_before=before,
            retests=sum(c.counts.retested for c in cells),
            reruns=reruns_of(session, cells),
            excused=_brought_along(cells),
            accepted=_accepted(less),
            kept=kept,
            asked=bool(run.context),
        )
    )
    if run.wish.said:
        run.sentence += f" {run.wish.said}."
    run.measures = with_new(run.measures, new)
    whole = coverage_totals_of(session, [run.id]).get((run.id, ""))
    run.judged = tuple(rule_judged(j) for j in judged)
    run.note = block(
        verdict=Verdict(run.verdict),
        context=run.context,
        address=site.run_address(project.name, run.number),
        number=run.number,
        said=run.sentence,
        baseline=f"{baseline.commit} (#{baseline.number})" if baseline is not None else "none",
        judged=judged,
        cells=[_noted(c) for c in cells],
        new=new,
        coverage=(whole.lines_covered, whole.lines_valid) if whole is not None else None,
        changed=run.measures.changed_share,
        uncovered=run.measures.uncovered,
        levels=[said_short(c) for c in seen_with(session, run)],
    )


def with_new(measures: Measures, new: Sequence[NotedFailure]) -> Measures:
    """With what messages say of new failures, and whose they may be."""
    return replace(measures, causes=causes_told(new), places=tuple(p for n in new for p in n.places)[:MOST_PLACES])


MOST_PLACES = 200  # files and tests that owners are looked for by


def _places(row: Shown) -> tuple[str, ...]:
    """What owners of a failure are found by: its file where that is told, and itself as a path."""
    named = "/".join(p for p in (row.suite, row.klass, row.name) if p)
    return tuple(p for p in (str(row.extra.get("file") or ""), named[:500]) if p)


MOST_TOLD = 12  # causes that messages name


def causes_told(new: Sequence[NotedFailure]) -> Causes:
    """New failures as messages name them: by test, with its cells and the first line of what it said."""
    by_test: dict[tuple[str, str], list[NotedFailure]] = {}
    for failure in new:
        by_test.setdefault((failure.job, failure.test), []).append(failure)
    listed = tuple(
        Cause(
            test,
            f"{job} {rows[0].key}".strip() if len(rows) == 1 else f"{job}, {counted(len(rows), 'cell')}",
            rows[0].message.strip().split("\n")[0][:300],
        )
        for (job, test), rows in list(by_test.items())[:MOST_TOLD]
    )
    return Causes(listed, max(0, len(by_test) - MOST_TOLD))


def _run_of(session: Session, cells: Sequence[Cell]) -> Run:
    return session.get_one(Run, cells[0].run_id)


def _short(baseline: Run | None) -> str | None:
    return baseline.commit[:7] if baseline is not None else None


def _brought_along(cells: Sequence[Cell]) -> list[str]:
    """Which results are of other runs: of the same content, or of jobs that nothing asked to run again."""
    said = []
    for why, how in ((Why.SAME_CONTENT, "Same content"), (Why.BROUGHT_ALONG, "brought along")):
        mine = [c for c in cells if c.reused is not None and c.why == why]
        if not mine:
            continue
        numbers = ", ".join(f"#{n}" for n in sorted({c.reused or 0 for c in mine}))
        if why is Why.SAME_CONTENT:
            said.append(f"{how}{'' if len(mine) == len(cells) else ' in part'} as {numbers}")
        else:
            jobs = list(dict.fromkeys(c.job for c in mine))
            said.append(f"{counted(len(jobs), 'job')} ({', '.join(jobs[:3])}) {how} from {numbers}")
    return said


def _where(cells: Sequence[Cell], compared: Compared) -> str | None:
    """The selector that explains which cells have new failures, when they are all of one job.

    Of several conditions at once none is told where cells that happened to fail would show as many.
    """
    flagged = {name for name, c in compared.cells.items() if c.new.any()}
    jobs = {job for job, _ in flagged}
    if len(jobs) != 1:
        return None
    ran = [c for c in cells if c.job in jobs and (c.job, c.key) in compared.cells]
    told = explain([c.values for c in ran], [(c.job, c.key) in flagged for c in ran])
    return told.selector if told.parts == 1 or (told.exact and beyond_chance(told, len(flagged), len(ran))) else None


def _first_here(compared: Compared) -> int:
    tests: set[int] = set()
    for c in compared.cells.values():
        if c.first_here:
            tests |= set(np.flatnonzero(c.new).tolist())
    return len(tests)


def mark_cells(session: Session, project_id: int, cells: Sequence[Cell], compared: Compared) -> list[NotedFailure]:
    """Give each cell its mark and counts; the new failures, in the order of the plan."""
    by_attempt: dict[int, list[Shown]] = {}
    for row in all_not_passed(session, project_id, list(compared.attempts.values())):
        by_attempt.setdefault(row.attempt_id, []).append(row)
    noted = []
    for cell in cells:
        name = (cell.job, cell.key)
        result = compared.cells.get(name)
        if result is None:
            continue
        cell.counts = replace(
            cell.counts,
            new=int(result.new.sum()),
            known=int(result.known.sum()),
            fixed=int(result.fixed.sum()),
            first=result.first_here,
            quarantined=int(result.quarantined.sum()),
            flaky=int((compared.current[name] == Outcome.FLAKY).sum()),
        )
        cell.mark = mark_of(
            cell.state, result, unexplained=bool(cell.counts.unexplained), flaky=bool(cell.counts.flaky)
        )
        noted += [
            NotedFailure(cell.job, cell.key, test_title(row.suite, row.klass, row.name), row.message, _places(row))
            for row in by_attempt.get(compared.attempts[name], [])
            if row.number < len(result.new) and result.new[row.number]
        ]
    return noted


def rule_judged(j: Judged) -> RuleJudged:
    rule = j.rule
    limit = j.limit if rule.limit == "baseline" else rule.limit
    assert limit != "baseline"
    return RuleJudged(
        name=rule.name,
        measure=rule.measure,
        sign=rule.sign,
        level=rule.level,
        line=rule.line,
        met=j.met,
        reason=j.reason,
        value=None if j.value is None else value_text(rule.measure, j.value, limit),
        limit=None if limit is None else value_text(rule.measure, limit, None),
        against_baseline=rule.limit == "baseline",
        best_of=rule.best_of,
        built_in=None if j.built_in is None else str(j.built_in),
        exact="" if j.value is None else str(j.value),
        waived=None if j.waived is None else WaivedBy(j.waived.by, j.waived.until, j.waived.reason),
    )


def _noted(cell: Cell) -> NotedCell:
    n = cell.counts
    return NotedCell(cell.job, cell.key, cell.state, cell.reason, n.passed, n.failed, n.errored, n.skipped)


def _accepted(less: Lessened) -> list[str]:
    """What a person has said may be so."""
    tests = [f"{counted(less.accepted_tests, 'test')} less than before, accepted"] if less.accepted_tests else []
    return [*tests, *(f"“{line}” is accepted" for line in less.accepted)]
