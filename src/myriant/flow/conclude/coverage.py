"""Coverage of a run: merged over its cells, of the lines that changed."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

from sqlalchemy.orm import Session

from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import FileCoverage, Totals
from myriant.core.coverage.view import changed_files, changed_share_of
from myriant.flow.conclude.comparing import Compared
from myriant.flow.site import Site
from myriant.repos.git import GitError
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
        lines = mirror.changed_lines(before, after)
        present = set(mirror.files(after))
    except GitError:
        return Changed()

    def share(jobs: Sequence[str], folder: str | None) -> Fraction | None:
        files = merge_files(merged_coverage_of(session, run.id, list(jobs) or [""]).values())
        counted = changed_share_of(files, {p: c for p, c in lines.items() if below(p, folder)}, present)
        return Fraction(counted[0], counted[1]) if counted is not None and counted[1] else None

    whole = merged_coverage_of(session, run.id, [""]).get("", {})
    counted = changed_share_of(whole, lines, present)
    listed = changed_files(whole, lines, present) or []
    bare = [f"{f.path}:{_ranges(f.uncovered)}" for f in listed if f.uncovered]
    nothing = "no line changed that could be covered" if counted is not None and not counted[1] else ""
    return Changed(share, nothing, bare[:MOST_NAMED])


MOST_NAMED = 5


def _ranges(lines: Sequence[int]) -> str:
    """Line numbers in few characters: 12-14, 20 …"""
    parts: list[list[int]] = []
    for n in sorted(lines):
        if parts and parts[-1][1] == n - 1:
            parts[-1][1] = n
        else:
            parts.append([n, n])
    told = [str(a) if a == b else f"{a}-{b}" for a, b in parts[:3]]
    return ", ".join(told) + (" …" if len(parts) > 3 else "")


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
    whole = merge_files(merged.values())
    keep_coverage(session, project_id, run.id, "", None, whole)
    if any(c.counts.get("coverage_trouble") for c in cells):
        return None
    return sum((f.totals for f in whole.values()), Totals()).line_share


def below(path: str, folder: str | None) -> bool:
    return folder is None or path.startswith(folder.strip("/").removeprefix("./") + "/")


def coverage_share(
    session: Session, run: Run, jobs: Sequence[str], folder: str | None = None, *, branches: bool = False
) -> Fraction | None:
    """The share of lines, or of branches, of a judged run, merged over some jobs (none given: all), of one folder's
    files (None: of all)."""
    if len(jobs) <= 1 and folder is None:
        totals = coverage_totals_of(session, [run.id]).get((run.id, jobs[0] if jobs else ""))
        return _share(totals, branches=branches) if totals is not None else None
    files = merge_files(merged_coverage_of(session, run.id, list(jobs) or [""]).values())
    whole = sum((f.totals for path, f in files.items() if below(path, folder)), Totals())
    return _share(whole, branches=branches)


def _share(totals: Totals, *, branches: bool) -> Fraction | None:
    if not branches:
        return totals.line_share
    return Fraction(totals.branches_covered, totals.branches_valid) if totals.branches_valid else None
