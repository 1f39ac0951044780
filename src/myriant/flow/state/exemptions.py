"""Exemptions: jobs that had nothing to test stand on results of other runs, and say what those say today.

A ground that is run again and fails, or whose waiver or quarantine is over, takes the exempt word with it, and a clear
one that rests on it in part.
"""

from __future__ import annotations

from collections.abc import Collection
from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.states import Verdict
from myriant.flow.state import runs
from myriant.store.changes import tell_of_run
from myriant.store.exemptions import (
    failed_aside,
    grounds_with_a_word,
    job_results_of_runs,
    jobs_brought_along,
    resting_on,
)
from myriant.store.history import set_aside_at
from myriant.store.judged import acceptances, runs_with_ids
from myriant.store.tables import JobResult, Run
from myriant.store.waivers import waivers_for

_WORST = (Verdict.HELD, Verdict.UNDECIDED, Verdict.EXEMPT)


def lapsed(session: Session, ground: Run, at: datetime) -> dict[str, str]:
    """By job (empty: any), why a clear result of a run is none any more at a time: a person's word for it is over."""
    found: dict[str, str] = {}
    waived = {j.name: j.waived for j in ground.judged if j.waived is not None}
    if waived:
        standing = waivers_for(session, ground, at)
        over = [name for name in waived if not standing.get(name)]
        if over:
            found[""] = f"the waiver of “{over[0]}” is over"
    aside = ground.measures.aside or ()
    if aside:
        back = set(aside) - set(set_aside_at(session, ground.project_id, at))
        for job in failed_aside(session, ground.id, back) if back else ():
            found[job] = "the quarantine of a test that failed there is over"
    return found


def stand_anew(session: Session, grounds: Collection[int]) -> None:
    """Runs that have results of these runs (ids) brought along say what those say now."""
    for run in resting_on(session, grounds):
        if run.judged:
            runs.call_for_conclusion(session, run)
            continue
        said = _grounds_say(session, run).values()
        verdict, reason = min(said, key=lambda s: _WORST.index(s[0]), default=(Verdict.EXEMPT, ""))
        if run.verdict != verdict:
            runs.lean(session, run, verdict, reason)
            tell_of_run(session, run)


def grounds_lost(session: Session, run: Run) -> dict[str, str]:
    """By job whose results were brought along, why they hold no more: their ground is held, or its word is over."""
    return {job: reason for job, (verdict, reason) in _grounds_say(session, run).items() if verdict is Verdict.HELD}


def _grounds_say(session: Session, run: Run) -> dict[str, tuple[Verdict, str]]:
    """By job whose results were brought along, what its ground says now, and why."""
    jobs = jobs_brought_along(session, run.id)
    rows = [row for row in job_results_of_runs(session, [run.id]) if row.job in jobs] if jobs else []
    bases = runs_with_ids(session, {row.baseline_id for row in rows if row.baseline_id})
    results = {(row.run_id, row.job): row for row in job_results_of_runs(session, list(bases))}
    started = {a.subject for a in acceptances(session, run.project_id, "start")} if bases else set()
    now = datetime.now(UTC)
    over = {base.id: lapsed(session, base, now) for base in bases.values()}
    return {row.job: _said(bases.get(row.baseline_id or 0), row.job, results, over, started) for row in rows}


def stand_anew_in(session: Session, project_id: int) -> None:
    """As `stand_anew`, for whatever in a project rests on a waiver or a quarantine."""
    stand_anew(session, grounds_with_a_word(session, project_id))


def _said(
    base: Run | None,
    job: str,
    results: dict[tuple[int, str], JobResult],
    over: dict[int, dict[str, str]],
    started: Collection[str],
) -> tuple[Verdict, str]:
    """What a job of an excused run says: as its ground, and why."""
    if base is None:
        return Verdict.EXEMPT, ""
    row = _of(results, base.id, job)
    stands_on = f"it stands on #{base.number}"
    if row is not None and row.good is None:
        return Verdict.UNDECIDED, f"{stands_on}, which is being tested again"
    if row is not None and row.trusted and base.commit in started:
        return Verdict.EXEMPT, ""  # the project starts from what is known there
    if row is not None and not row.good:
        return Verdict.HELD, f"{stands_on}, which was tested again and is held"
    why = over.get(base.id, {})
    reason = why.get(job) or why.get("")
    return (Verdict.HELD, f"{stands_on}, and {reason}") if reason else (Verdict.EXEMPT, "")


def _of(results: dict[tuple[int, str], JobResult], base: int, job: str) -> JobResult | None:
    found = results.get((base, job))
    return found or next((row for (run, _), row in results.items() if run == base and not row.good), None)
