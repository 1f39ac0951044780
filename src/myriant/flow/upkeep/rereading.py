"""Re-reading: stored raw reports through today's readers; what differs is said, and no verdict changes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from myriant.core.coverage.paths import Placing
from myriant.core.coverage.read import read_coverage
from myriant.core.results.model import Outcome
from myriant.core.results.read import read_results
from myriant.core.results.sarif import read_sarif
from myriant.core.states import Content
from myriant.flow.errors import NotFound
from myriant.flow.ingest.placing import placing_of
from myriant.flow.naming import the_run
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.store.attempts import reports_to_read_again
from myriant.store.coverage import coverage_totals_of_attempts
from myriant.store.projects import project_named
from myriant.store.tables import Project

_READ = (Content.TESTS, Content.RETEST, Content.COVERAGE, Content.ANALYSIS)


@dataclass(frozen=True, slots=True)
class Reread:
    """A report whose stored reading differs from a new one."""

    run: int
    cell: str
    path: str
    stored: str
    now: str


def reread(site: Site, project_name: str) -> Iterator[Reread | None]:
    """Read every kept report of a project again; None for each that reads as it did, else the difference."""
    with site.store.transaction() as session:
        project = project_named(session, project_name)
        if project is None:
            raise NotFound(f"there is no project {project_name!r}")
        rows = reports_to_read_again(session, project.id, _READ)
        totals = coverage_totals_of_attempts(session, [row[0].attempt_id for row in rows])
    placings: dict[tuple[int, str], Placing] = {}
    for report, finish, job, key, number in rows:
        if report.content == Content.COVERAGE:
            workspace = (finish.workspace if finish is not None else "") or "/workspace"
            if (number, workspace) not in placings:
                placings = {(number, workspace): _placing(site, project, number, workspace)}  # they come run by run
            _, coverage = read_coverage(site.blobs.chunks(report.blob), placings[number, workspace])
            before = totals.get(report.attempt_id)
            stored = f"{before.lines_covered} of {before.lines_valid} lines" if before else "0 of 0 lines"
            now = f"{coverage.totals.lines_covered} of {coverage.totals.lines_valid} lines"
        elif report.content == Content.ANALYSIS:
            stored = f"{report.total} results of static analysis"
            now = f"{len(read_sarif(site.blobs.chunks(report.blob)).results)} results of static analysis"
        else:
            _, results = read_results(site.blobs.chunks(report.blob))
            stored = _counts(report.passed, report.failed, report.errored, report.skipped)
            passed = results.count(Outcome.PASSED) + results.count(Outcome.FLAKY)
            kinds = (Outcome.FAILED, Outcome.ERRORED, Outcome.SKIPPED)
            now = _counts(passed, *(results.count(kind) for kind in kinds))
        same = stored == now
        yield None if same else Reread(number, f"{job} {key}".strip(), report.path, stored, now)


def _placing(site: Site, project: Project, number: int, workspace: str) -> Placing:
    with site.store.transaction() as session:
        run = the_run(session, project, number)
        return placing_of(site, project, run, plan_of_run(session, run), workspace)


def _counts(passed: int, failed: int, errored: int, skipped: int) -> str:
    return f"{passed} passed, {failed} failed, {errored} errored, {skipped} skipped"
