"""Ingest: an attempt's reports are read, its results stored, and its outcome known."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from typing import Any

import numpy as np
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import FileCoverage
from myriant.core.coverage.read import read_coverage
from myriant.core.diagnosis.signature import signature_of
from myriant.core.results.identity import Identity, identities
from myriant.core.results.model import Detail, Oddity, Outcome, Results
from myriant.core.results.outcome import attempt_outcome
from myriant.core.results.read import read_results
from myriant.core.results.sarif import Marked, read_sarif
from myriant.core.written import counted
from myriant.flow.advance import advance
from myriant.flow.caching import settle_caches
from myriant.flow.controls import control_ended
from myriant.flow.dispatch import may_try_again, wait_again
from myriant.flow.logs import learn_usual
from myriant.flow.plans import plan_of
from myriant.flow.searches import try_ended
from myriant.flow.site import Site
from myriant.store.analysis import keep_analysis
from myriant.store.changes import tell
from myriant.store.coverage import keep_coverage
from myriant.store.results import NotPassed, keep_results, test_numbers
from myriant.store.tables import Attempt, Cell, Project, Report, Run, Step

_BADNESS: Mapping[int, int] = {
    Outcome.ABSENT: 0, Outcome.SKIPPED: 1, Outcome.PASSED: 2, Outcome.FLAKY: 3, Outcome.ERRORED: 4, Outcome.FAILED: 5
}  # fmt: skip


@dataclass(slots=True)
class _Gathered:
    """All results of one attempt, and what speaks against trusting it."""

    tests: list[Identity] = field(default_factory=list)
    outcomes: bytearray = field(default_factory=bytearray)
    seconds: list[float] = field(default_factory=list)
    details: dict[int, Detail] = field(default_factory=dict)
    untrusted: list[str] = field(default_factory=list)
    failing_steps: set[int] = field(default_factory=set)  # steps whose reports hold failures
    retests: list[tuple[str, Results]] = field(default_factory=list)  # with the kind
    coverage: list[Mapping[str, FileCoverage]] = field(default_factory=list)
    coverage_trouble: list[str] = field(default_factory=list)
    analysis: dict[str, Marked] = field(default_factory=dict)
    repeated: bool = False  # a test stands in two reports

    def add(self, kind: str, step: int, results: Results) -> None:
        at = len(self.tests)
        self.tests += identities(kind, results)
        self.outcomes += results.outcomes
        self.seconds += results.seconds[: len(results.outcomes)]
        for index, detail in results.details.items():
            self.details[at + index] = detail
        if results.count(Outcome.FAILED) or results.count(Outcome.ERRORED):
            self.failing_steps.add(step)

    def merge_repeated(self) -> None:
        """Reports of one attempt may name the same test: it is one test, and its worst outcome counts."""
        if not self.repeated:
            return
        worst: dict[Identity, int] = {}
        for at, identity in enumerate(self.tests):
            other = worst.setdefault(identity, at)
            if _BADNESS[self.outcomes[at]] > _BADNESS[self.outcomes[other]]:
                worst[identity] = at
        kept = list(worst.values())
        self.tests = list(worst)
        self.details = {now: self.details[at] for now, at in enumerate(kept) if at in self.details}
        self.outcomes = bytearray(self.outcomes[at] for at in kept)
        self.seconds = [self.seconds[at] for at in kept]

    def settle_retests(self) -> None:
        """A test that both failed and passed within the attempt is flaky, whatever came last."""
        if not self.retests:
            return
        places: dict[Identity, int] = {}
        for at, identity in enumerate(self.tests):
            places.setdefault(identity, at)
        bad = (Outcome.FAILED, Outcome.ERRORED)
        for kind, results in self.retests:
            for identity, outcome in zip(identities(kind, results), results.outcomes, strict=True):
                found = places.get(identity)
                if found is None:
                    continue
                now, before = Outcome(outcome), Outcome(self.outcomes[found])
                if {now, before} & {Outcome.PASSED} and ({now, before} & set(bad)):
                    self.outcomes[found] = Outcome.FLAKY
                    self.details.setdefault(found, Detail("it failed when it was run again"))


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
    gathered = _Gathered()
    workspace = (attempt.finish or {}).get("workspace") or "/workspace"
    for report in reports:
        if report.content == "coverage":
            _read_coverage(site, report, gathered, workspace)
        elif report.content == "tests":
            _read(site, report, gathered, may_be_empty=(report.step, report.kind) in may_be_empty)
        elif report.content == "analysis":
            _read_analysis(site, report, gathered, workspace)
        elif report.content == "retest":
            _read_retest(site, report, gathered)
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


def _read_retest(site: Site, report: Report, gathered: _Gathered) -> None:
    try:
        _, results = read_results(site.blobs.chunks(report.blob))
    except FileNotFoundError:
        return
    _count(report, results)
    gathered.retests.append((report.kind, results))


def _read(site: Site, report: Report, gathered: _Gathered, *, may_be_empty: bool) -> None:
    try:
        _, results = read_results(site.blobs.chunks(report.blob))
    except FileNotFoundError:
        gathered.untrusted.append(f"the stored report {report.path} is gone")
        return
    _count(report, results)
    empty = not len(results.outcomes) and results.error is not None and "no test" in results.error.message
    if results.error is not None and not (may_be_empty and empty):
        gathered.untrusted.append(f"the report {report.path} is not to be trusted: {results.error.message}")
    before = len(gathered.tests)
    gathered.add(report.kind, report.step, results)
    again = len(set(gathered.tests[:before]).intersection(gathered.tests[before:])) if before else 0
    if again:
        gathered.repeated = True
        said = f"{counted(again, 'test')} of this report {'stands' if again == 1 else 'stand'} in an earlier one too"
        report.problems = [
            *report.problems,
            asdict(Oddity("warning", f"{said}: each counts once, with its worst outcome", 0)),
        ]


def _count(report: Report, results: Results) -> None:
    report.problems = [asdict(p) for p in results.problems]
    report.total = len(results.outcomes)
    report.passed = results.count(Outcome.PASSED) + results.count(Outcome.FLAKY)
    report.failed = results.count(Outcome.FAILED)
    report.errored, report.skipped = results.count(Outcome.ERRORED), results.count(Outcome.SKIPPED)
    report.seconds = float(np.nansum(results.seconds)) if results.seconds else 0.0


def _read_coverage(site: Site, report: Report, gathered: _Gathered, workspace: str) -> None:
    try:
        _, coverage = read_coverage(site.blobs.chunks(report.blob), (workspace,))
    except FileNotFoundError:
        gathered.coverage_trouble.append(f"the stored report {report.path} is gone")
        return
    report.problems = [asdict(p) for p in coverage.problems]
    if coverage.error is not None:
        gathered.coverage_trouble.append(f"the report {report.path} is not to be trusted: {coverage.error.message}")
    else:
        gathered.coverage.append(coverage.files)


def _read_analysis(site: Site, report: Report, gathered: _Gathered, workspace: str) -> None:
    try:
        analysis = read_sarif(site.blobs.chunks(report.blob), (workspace,))
    except FileNotFoundError:
        gathered.untrusted.append(f"the stored report {report.path} is gone")
        return
    report.problems = [asdict(p) for p in analysis.problems]
    report.total = len(analysis.results)
    if analysis.error is not None:
        gathered.untrusted.append(f"the report {report.path} is not to be trusted: {analysis.error.message}")
    for result in analysis.results:
        gathered.analysis.setdefault(result.key, result)


def _conclude_attempt(
    site: Site, session: Session, attempt_id: int, reports: Sequence[Report], gathered: _Gathered, *, follow_up: bool
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
        control = control_ended(session, attempt)
        if control is not None:
            try_ended(site, session, control)
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
    session: Session, project_id: int, job: str, attempt_id: int, gathered: _Gathered, roots: Sequence[str]
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
