"""Coverage of a run: merged over its cells, of the lines that changed."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

from sqlalchemy.orm import Session

from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import FileCoverage, Totals, Unit
from myriant.core.coverage.view import changed_files, changed_share_of, lost_of
from myriant.core.written import ranges
from myriant.flow.compare.outcomes import Compared
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import added_lines
from myriant.store.coverage import (
    coverage_files_of_attempts,
    coverage_totals_of,
    keep_coverage,
    merged_coverage_of,
)
from myriant.store.tables import Cell, Project, Run


@dataclass(frozen=True, slots=True)
class Changed:
    """How the lines that a change added or modified are covered; `nothing` says why there is nothing to measure."""

    share: Callable[[Sequence[str], str | None], Fraction | None] = lambda jobs, folder: None
    nothing: str = ""
    uncovered: Sequence[str] = ()  # the first changed lines that nothing ran, as path:line
    lost: Callable[[Sequence[str], str | None], Fraction | None] = lambda jobs, folder: None  # unchanged, and no more


def changed_share(
    site: Site, session: Session, project: Project, run: Run, baseline: Run | None, coverage: Fraction | None
) -> Changed:
    """Covered ÷ coverable lines among those changed since the baseline's commit, by jobs.

    A changed source file that no report knows is not covered at all; reports none of whose paths is a file of the
    repository measure nothing.
    """
    before = run.base or ((baseline.tested or baseline.commit) if baseline is not None else None)
    if before is None:
        return Changed(nothing="there is no baseline to have changed since")
    if coverage is None:
        return Changed()
    after, mirror = run.tested or run.commit, site.mirror(project)
    try:
        hunks = mirror.hunks(before, after)
        lines = added_lines(hunks)
        present = set(mirror.files(after))
    except GitError:
        return Changed()

    def share(jobs: Sequence[str], folder: str | None) -> Fraction | None:
        files = merge_files(merged_coverage_of(session, run.id, list(jobs) or [""]).values())
        counted = changed_share_of(files, {p: c for p, c in lines.items() if below(p, folder)}, present)
        return Fraction(counted[0], counted[1]) if counted is not None and counted[1] else None

    def lost(jobs: Sequence[str], folder: str | None) -> Fraction | None:
        if baseline is None:
            return None
        now, then = (
            merge_files(merged_coverage_of(session, r.id, list(jobs) or [""]).values()) for r in (run, baseline)
        )
        found = lost_of(then, now, hunks, present)
        return Fraction(sum(len(numbers) for path, numbers in found.items() if below(path, folder)))

    whole = merged_coverage_of(session, run.id, [""]).get("", {})
    counted = changed_share_of(whole, lines, present)
    listed = changed_files(whole, lines, present) or []
    bare = [f"{f.path}:{ranges(f.uncovered)}" for f in listed if f.uncovered]
    nothing = "no line changed that could be covered" if counted is not None and not counted[1] else ""
    return Changed(share, nothing, bare[:MOST_NAMED], lost)


MOST_NAMED = 5


def merge_coverage(
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
    (only,) = merged.values() if len(merged) == 1 else (None,)
    whole = only if only is not None else merge_files(part for parts in by_job.values() for part in parts)
    keep_coverage(session, project_id, run.id, "", None, whole)
    if any(c.counts.coverage_trouble for c in cells):
        return None
    return sum((f.totals for f in whole.values()), Totals()).line_share


def below(path: str, folder: str | None) -> bool:
    return folder is None or path.startswith(folder.strip("/").removeprefix("./") + "/")


def coverage_share(
    session: Session, run: Run, jobs: Sequence[str], folder: str | None = None, of: Unit = "lines"
) -> Fraction | None:
    """The share of lines, branches or functions of a judged run, merged over some jobs (none given: all), of one
    folder's files (None: of all)."""
    if len(jobs) <= 1 and folder is None:
        totals = coverage_totals_of(session, [run.id]).get((run.id, jobs[0] if jobs else ""))
        return totals.share(of) if totals is not None else None
    files = merge_files(merged_coverage_of(session, run.id, list(jobs) or [""]).values())
    return sum((f.totals for path, f in files.items() if below(path, folder)), Totals()).share(of)
