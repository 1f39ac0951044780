"""Ingest: an attempt's reports are read, its results stored, and its outcome known."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.coverage.merge import merge_files
from myriant.core.diagnosis.signature import signature_of
from myriant.core.gate.aside import StepResults
from myriant.core.plan.model import Job
from myriant.core.results.identity import Identity, lineage_digest
from myriant.core.results.model import Detail, Outcome
from myriant.core.results.outcome import attempt_outcome
from myriant.core.states import Content, State, Why
from myriant.flow.compare.aside import Aside, aside_in, unexplained_steps
from myriant.flow.ingest.caches import settle_caches
from myriant.flow.ingest.gathered import Gathered
from myriant.flow.ingest.placing import placing_of
from myriant.flow.ingest.proving import lacks_proof
from myriant.flow.ingest.reading import read_analysis, read_retest, read_tests, take_coverage
from myriant.flow.ingest.usual import learn_usual
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.flow.state import cells, controls
from myriant.flow.state.advance import advance
from myriant.flow.state.attempts import end, may_try_again, wait_again
from myriant.store.analysis import keep_analysis
from myriant.store.aside import keep_step_tests
from myriant.store.attempts import keep_counts, reports_of, steps_of
from myriant.store.changes import tell
from myriant.store.coverage import keep_coverage
from myriant.store.records import Counts, Finish
from myriant.store.results import NotPassed, keep_results, test_numbers
from myriant.store.tables import Attempt, Cell, Project, Report, Run


def ingest_attempt(site: Site, attempt_id: int, *, follow_up: bool = True) -> None:
    """Read the reports of a finished attempt; the run's last one calls for the conclusion, unless told not to.

    Running twice gives the same rows once.
    """
    with site.store.transaction() as session:
        attempt = session.get(Attempt, attempt_id)
        if attempt is None or attempt.state != State.READING:
            return
        reports = reports_of(session, attempt_id)
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        plan = plan_of_run(session, run)
        may_be_empty = {
            (position, collect.kind)
            for position, step in enumerate(plan.job(cell.job).steps if plan else ())
            for collect in step.collect
            if collect.may_be_empty
        }
        project = session.get_one(Project, run.project_id)
    gathered = Gathered()
    workspace = (attempt.finish or Finish()).workspace or "/workspace"
    placing = None
    for report in reports:
        if report.content == Content.COVERAGE:
            placing = placing or placing_of(site, project, run, plan, workspace)
            take_coverage(site, report, gathered, placing)
        elif report.content == Content.TESTS:
            read_tests(site, report, gathered, may_be_empty=(report.step, report.kind) in may_be_empty)
        elif report.content == Content.ANALYSIS:
            read_analysis(site, report, gathered, workspace)
        elif report.content == Content.RETEST:
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
        return session.get_one(Attempt, attempt_id).state == State.PASSED


def _conclude_attempt(
    site: Site, session: Session, attempt_id: int, reports: Sequence[Report], gathered: Gathered, *, follow_up: bool
) -> list[str]:
    """Give the attempt its outcome; blobs to remove once this is committed."""
    attempt = session.get_one(Attempt, attempt_id, with_for_update=True)
    if attempt.state != State.READING:
        return []
    cell = session.get_one(Cell, attempt.cell_id)
    run = session.get_one(Run, cell.run_id, with_for_update=True)
    project = session.get_one(Project, run.project_id)
    plan = plan_of_run(session, run)
    job = plan.find(cell.job) if plan is not None else None
    keep_counts(session, reports)
    said = attempt.finish or Finish()
    roots = ("/workspace", said.workspace or "/workspace")
    named = (cell.job, *(job.formerly if job is not None else ()))
    numbers = _keep(session, project.id, named, attempt_id, gathered, roots)
    keep_analysis(session, attempt_id, gathered.analysis.values())
    keep_coverage(session, project.id, run.id, cell.job, attempt_id, merge_files(gathered.coverage))
    steps = gathered.step_results(numbers)
    _keep_steps(session, project.id, named, attempt_id, gathered, steps)
    # a report that is missing where a step crashed or was ended follows from that
    untrusted = [*([said.void] if said.void else said.missing), *gathered.untrusted]
    if not untrusted and job is not None and not gathered.ran and _must_run_tests(session, attempt_id, job):
        untrusted = ["no test ran: all of them were skipped" if gathered.tests else "no test ran"]
    failed = said.failed_steps
    fails = bool(failed) or any(step.failing for step in steps.values())
    aside = aside_in(session, run, cell) if fails else Aside(frozenset())
    unexplained = unexplained_steps(site, session, run, cell, attempt_id, failed, aside, steps)
    if not untrusted and not unexplained and job is not None:
        unexplained = lacks_proof(site, session, run, job, attempt)
    holding = {n for step in steps.values() for n in step.failing} - aside.tests
    state, reason = attempt_outcome(untrusted, unexplained, len(holding))
    end(attempt, state, reason)
    gone = settle_caches(site, session, attempt)
    if attempt.number < 0:
        controls.end(session, attempt)
    again = state is State.VOID and said.machine and follow_up and may_try_again(session, attempt, plan, cell)
    if cell.attempt_id == attempt_id and again:
        wait_again(session, cell, attempt, reason)
    elif cell.attempt_id == attempt_id:
        own = bool(said.void or gathered.untrusted)  # no report is only missing because a step failed
        bad = Why.TESTS if holding else Why.STEP if unexplained and not own else Why.REPORT
        why = Why.NOTHING if state is State.PASSED else bad
        cells.end(cell, state, reason, why, _counts(gathered, said, unexplained))
        session.flush()
        if follow_up:
            advance(session, run, plan, cell)
    if follow_up:
        tell(session, "cell", project.name, run.number)
    return gone


def _must_run_tests(session: Session, attempt_id: int, job: Job) -> bool:
    """Whether a step that ran collects tests which may not be empty."""
    ran = {s.position for s in steps_of(session, attempt_id) if s.state != State.SKIPPED}
    return any(
        c.tests and not c.may_be_empty
        for position, step in enumerate(job.steps)
        if position in ran or not ran
        for c in step.collect
    )


def _counts(gathered: Gathered, said: Finish, unexplained: Sequence[str]) -> Counts:
    return Counts(
        total=len(gathered.outcomes),
        passed=gathered.count(Outcome.PASSED, Outcome.FLAKY),
        failed=gathered.count(Outcome.FAILED),
        errored=gathered.count(Outcome.ERRORED),
        skipped=gathered.count(Outcome.SKIPPED),
        flaky=gathered.count(Outcome.FLAKY),
        retested=said.retested,
        unexplained=tuple(unexplained),
        coverage_trouble=(*said.missing_coverage, *gathered.coverage_trouble),
    )


def _keep_steps(
    session: Session,
    project_id: int,
    named: Sequence[str],
    attempt_id: int,
    gathered: Gathered,
    steps: Mapping[int, StepResults[int]],
) -> None:
    """Which tests each step's reports list, so that a later run knows what is missing."""
    rows = []
    for position, tests in gathered.by_step.items():
        listed = list(dict.fromkeys(tests))
        if listed != gathered.tests:  # those have their numbers
            test_numbers(session, project_id, named[0], listed, named[1:])
        rows.append((position, lineage_digest(named, listed), len(steps[position].failing)))
    keep_step_tests(session, attempt_id, rows)


def _keep(
    session: Session, project_id: int, named: Sequence[str], attempt_id: int, gathered: Gathered, roots: Sequence[str]
) -> dict[Identity, int]:
    """Store the results; the project's numbers of the tests. `named` are the job's name and its former ones."""
    numbers = test_numbers(session, project_id, named[0], gathered.tests, named[1:])
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
                int(numbers[index]),
                outcome,
                detail.message,
                detail.text,
                given if given == given else None,
                sign,
                _extra(detail),
            )
        )
    keep_results(session, attempt_id, numbers, outcomes, seconds, not_passed)
    return dict(zip(gathered.tests, numbers.tolist(), strict=True))


def _extra(detail: Detail) -> dict[str, Any]:
    every = {
        "type": detail.type,
        "output": detail.output,
        "file": detail.file,
        "line": detail.line,
        "attachments": detail.attachments,
        "setup": detail.setup,
    }
    return {key: value for key, value in every.items() if value}
