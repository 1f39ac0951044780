"""Ingest: an attempt's reports are read, its results stored, and its outcome known."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from myriant.core.coverage.merge import merge_files
from myriant.core.diagnosis.signature import signature_of
from myriant.core.results.model import Detail, Outcome
from myriant.core.results.outcome import attempt_outcome
from myriant.flow.ingest.caches import settle_caches
from myriant.flow.ingest.gathered import Gathered
from myriant.flow.ingest.reading import read_analysis, read_retest, read_tests, take_coverage
from myriant.flow.ingest.usual import learn_usual
from myriant.flow.plans import plan_of
from myriant.flow.site import Site
from myriant.flow.state.advance import advance
from myriant.flow.state.attempts import may_try_again, wait_again
from myriant.flow.state.controls import control_ended
from myriant.store.analysis import keep_analysis
from myriant.store.changes import tell
from myriant.store.coverage import keep_coverage
from myriant.store.results import NotPassed, keep_results, test_numbers
from myriant.store.tables import Attempt, Cell, Project, Report, Run, Step


def ingest_attempt(site: Site, attempt_id: int, *, follow_up: bool = True) -> None:
    """Read the reports of a finished attempt; the run's last one calls for the conclusion, unless told not to.

    Running twice gives the same rows once.
    """
    with site.store.transaction() as session:
        attempt = session.get(Attempt, attempt_id)
        if attempt is None or attempt.state != "reading":
            return
        reports = session.scalars(select(Report).where(Report.attempt_id == attempt_id).order_by(Report.number)).all()
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        plan = plan_of(run.plan)
        may_be_empty = {
            (position, collect.kind)
            for position, step in enumerate(plan.job(cell.job).steps if plan else ())
            for collect in step.collect
            if collect.may_be_empty
        }
    gathered = Gathered()
    workspace = (attempt.finish or {}).get("workspace") or "/workspace"
    for report in reports:
        if report.content == "coverage":
            take_coverage(site, report, gathered, workspace)
        elif report.content == "tests":
            read_tests(site, report, gathered, may_be_empty=(report.step, report.kind) in may_be_empty)
        elif report.content == "analysis":
            read_analysis(site, report, gathered, workspace)
        elif report.content == "retest":
            read_retest(site, report, gathered)
    gathered.merge_repeated()
    gathered.settle_retests()
    with site.store.transaction() as session:
        gone = _conclude_attempt(site, session, attempt_id, reports, gathered, follow_up=follow_up)
    for blob in gone:
        site.blobs.remove(blob)
    if follow_up and attempt.log_size and _passed(site, attempt_id):
        learn_usual(site, attempt_id)


def _passed(site: Site, attempt_id: int) -> bool:
    with site.store.transaction() as session:
        return session.get_one(Attempt, attempt_id).state == "passed"


def _conclude_attempt(
    site: Site, session: Session, attempt_id: int, reports: Sequence[Report], gathered: Gathered, *, follow_up: bool
) -> list[str]:
    """Give the attempt its outcome; blobs to remove once this is committed."""
    attempt = session.get_one(Attempt, attempt_id, with_for_update=True)
    if attempt.state != "reading":
        return []
    cell = session.get_one(Cell, attempt.cell_id)
    run = session.get_one(Run, cell.run_id, with_for_update=True)
    project = session.get_one(Project, run.project_id)
    if reports:
        columns = ("id", "problems", "total", "passed", "failed", "errored", "skipped", "seconds")
        session.execute(update(Report), [{c: getattr(r, c) for c in columns} for r in reports])
    roots = ("/workspace", (attempt.finish or {}).get("workspace") or "/workspace")
    _keep(session, project.id, cell.job, attempt_id, gathered, roots)
    keep_analysis(session, attempt_id, gathered.analysis.values())
    said = attempt.finish or {}
    keep_coverage(session, project.id, run.id, cell.job, attempt_id, merge_files(gathered.coverage))
    untrusted = [*filter(None, [said.get("void")]), *said.get("missing", []), *gathered.untrusted]
    failed_steps: list[int] = said.get("failed_steps", [])
    steps = session.scalars(select(Step).where(Step.attempt_id == attempt_id)) if failed_steps else ()
    names = {s.position: s.name for s in steps}
    unexplained = [names.get(p, f"step {p + 1}") for p in failed_steps if p not in gathered.failing_steps]
    failures = gathered.outcomes.count(Outcome.FAILED) + gathered.outcomes.count(Outcome.ERRORED)
    attempt.state, attempt.reason = attempt_outcome(untrusted, unexplained, failures)
    gone = settle_caches(site, session, attempt)
    if attempt.number < 0:
        control_ended(session, attempt)
    again = (
        attempt.state == "void" and said.get("machine") and follow_up
        and may_try_again(session, attempt, plan_of(run.plan), cell)
    )  # fmt: skip
    if cell.attempt_id == attempt_id and again:
        wait_again(session, cell, attempt, attempt.reason)
    elif cell.attempt_id == attempt_id:
        cell.state, cell.reason = attempt.state, attempt.reason
        cell.mark = {"failed": "new"}.get(attempt.state, attempt.state)
        cell.counts = {
            "total": len(gathered.outcomes),
            "passed": gathered.outcomes.count(Outcome.PASSED) + gathered.outcomes.count(Outcome.FLAKY),
            "failed": gathered.outcomes.count(Outcome.FAILED),
            "errored": gathered.outcomes.count(Outcome.ERRORED),
            "skipped": gathered.outcomes.count(Outcome.SKIPPED),
            "flaky": gathered.outcomes.count(Outcome.FLAKY),
            "retested": said.get("retested", 0),
            "unexplained": unexplained,
            "coverage_trouble": [*said.get("missing_coverage", []), *gathered.coverage_trouble],
        }
        session.flush()
        if follow_up:
            advance(session, run, plan_of(run.plan), cell)
    if follow_up:
        tell(session, "cell", project.name, run.number)
    return gone


def _keep(
    session: Session, project_id: int, job: str, attempt_id: int, gathered: Gathered, roots: Sequence[str]
) -> None:
    numbers = test_numbers(session, project_id, job, gathered.tests)
    outcomes = np.frombuffer(bytes(gathered.outcomes), np.uint8)
    seconds = np.array(gathered.seconds, np.float64)
    not_passed = []
    for index in np.flatnonzero(outcomes != Outcome.PASSED):
        detail, outcome = gathered.details.get(int(index), Detail()), Outcome(int(outcomes[index]))
        given = gathered.seconds[index]
        _, suite, klass, _ = gathered.tests[index]
        told = outcome is not Outcome.SKIPPED
        sign = signature_of(detail.message, detail.text, detail.type, klass or suite, roots).digest if told else ""
        not_passed.append(
            NotPassed(
                int(numbers[index]), outcome, detail.message, detail.text, given if given == given else None, sign,
                _extra(detail),
            )
        )  # fmt: skip
    keep_results(session, attempt_id, numbers, outcomes, seconds, not_passed)


def _extra(detail: Detail) -> dict[str, Any]:
    every = {"type": detail.type, "output": detail.output, "file": detail.file, "line": detail.line,
             "attachments": detail.attachments, "setup": detail.setup}  # fmt: skip
    return {key: value for key, value in every.items() if value}
