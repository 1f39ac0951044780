"""Each report read by its reader; what cannot be trusted is said."""

from __future__ import annotations

from dataclasses import asdict

import numpy as np

from myriant.core.coverage.paths import Placing
from myriant.core.coverage.read import read_coverage
from myriant.core.results.model import Oddity, Outcome, Results
from myriant.core.results.read import read_results
from myriant.core.results.sarif import read_sarif
from myriant.core.written import counted
from myriant.flow.ingest.gathered import Gathered
from myriant.flow.site import Site
from myriant.store.tables import Report


def read_retest(site: Site, report: Report, gathered: Gathered) -> None:
    try:
        _, results = read_results(site.blobs.chunks(report.blob))
    except FileNotFoundError:
        return
    _count(report, results)
    gathered.retests.append((report.kind, results))


def read_tests(site: Site, report: Report, gathered: Gathered, *, may_be_empty: bool) -> None:
    try:
        _, results = read_results(site.blobs.chunks(report.blob))
    except FileNotFoundError:
        gathered.untrusted.append(f"the stored report {report.path} is gone")
        return
    _count(report, results)
    if results.error is not None and not (may_be_empty and results.says_none):
        gathered.untrusted.append(f"the report {report.path} is not to be trusted: {results.error.message}")
    before = len(gathered.tests)
    gathered.add(report.kind, report.step, results)
    again = len(set(gathered.tests[:before]).intersection(gathered.tests[before:])) if before else 0
    if again:
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


def take_coverage(site: Site, report: Report, gathered: Gathered, placing: Placing) -> None:
    try:
        _, coverage = read_coverage(site.blobs.chunks(report.blob), placing)
    except FileNotFoundError:
        gathered.coverage_trouble.append(f"the stored report {report.path} is gone")
        return
    report.problems = [asdict(p) for p in coverage.problems]
    if coverage.error is not None:
        gathered.coverage_trouble.append(f"the report {report.path} is not to be trusted: {coverage.error.message}")
    else:
        gathered.coverage.append(coverage.files)


def read_analysis(site: Site, report: Report, gathered: Gathered, workspace: str) -> None:
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
