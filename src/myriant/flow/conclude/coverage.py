"""Coverage of a run: merged over its cells, of the lines that changed."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from fractions import Fraction

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import FileCoverage, Totals
from myriant.flow.conclude.comparing import Compared
from myriant.flow.plans import plan_of
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.coverage import (
    coverage_files_of_attempts,
    coverage_totals_of,
    keep_coverage,
    merged_coverage_of,
)
from myriant.store.tables import Cell, Project, Run


def changed_share(
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


def _below(path: str, folder: str | None) -> bool:
    return folder is None or path.startswith(folder.strip("/").removeprefix("./") + "/")


def coverage_share(session: Session, run: Run, jobs: Sequence[str], folder: str | None = None) -> Fraction | None:
    """The line share of a judged run, merged over some jobs (none given: all), of one folder's files (None: of all)."""
    if len(jobs) <= 1 and folder is None:
        totals = coverage_totals_of(session, [run.id]).get((run.id, jobs[0] if jobs else ""))
        return totals.line_share if totals is not None else None
    files = merge_files(merged_coverage_of(session, run.id, list(jobs) or [""]).values())
    return sum((f.totals for path, f in files.items() if _below(path, folder)), Totals()).line_share
