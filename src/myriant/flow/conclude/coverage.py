"""Coverage of a run: merged over its cells, of the lines that changed."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import FileCoverage, Totals, Unit
from myriant.core.coverage.view import changed_files, changed_share_of
from myriant.core.plan.globs import matches
from myriant.core.plan.model import Plan
from myriant.core.written import ranges
from myriant.flow.compare.baseline_coverage import CoveredBefore, below, carried
from myriant.flow.compare.outcomes import Compared
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import added_lines
from myriant.store.coverage import (
    cells_with_coverage,
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
    site: Site, session: Session, project: Project, run: Run, then: CoveredBefore, coverage: Fraction | None
) -> Changed:
    """Covered ÷ coverable lines among those changed since the baselines' commits, by jobs.

    A changed source file that no report knows is not covered at all; reports none of whose paths is a file of the
    repository measure nothing.
    """
    since = then.since(session)
    before = run.base or ((since.tested or since.commit) if since is not None else None)
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

    known: dict[str, str] = {}

    def texts_of(paths: Collection[str]) -> Mapping[str, str]:
        wanted = [p for p in paths if p not in known]
        known.update(mirror.texts(after, wanted) if wanted else {})
        return known

    def share(jobs: Sequence[str], folder: str | None) -> Fraction | None:
        files = merge_files(merged_coverage_of(session, run.id, list(jobs) or [""]).values())
        counted = changed_share_of(files, {p: c for p, c in lines.items() if below(p, folder)}, present, texts_of)
        return Fraction(counted[0], counted[1]) if counted is not None and counted[1] else None

    def lost(jobs: Sequence[str], folder: str | None) -> Fraction | None:
        if then.base(session, jobs) is None:
            return None
        now = merge_files(merged_coverage_of(session, run.id, list(jobs) or [""]).values())
        try:
            found = then.lost(session, now, after, present, jobs)
        except GitError:
            return None
        return Fraction(sum(len(numbers) for path, numbers in found.items() if below(path, folder)))

    whole = merged_coverage_of(session, run.id, [""]).get("", {})
    counted = changed_share_of(whole, lines, present, texts_of)
    listed = changed_files(whole, lines, present, texts_of) or []
    bare = [f"{f.path}:{ranges(f.uncovered)}" for f in listed if f.uncovered]
    nothing = "no line changed that could be covered" if counted is not None and not counted[1] else ""
    return Changed(share, nothing, bare[:MOST_NAMED], lost)


MOST_NAMED = 5


def merge_coverage(
    session: Session,
    project_id: int,
    run: Run,
    cells: Sequence[Cell],
    compared: Compared,
    then: CoveredBefore,
    plan: Plan | None,
) -> Fraction | None:
    """Merge the cells' coverage by job and over all; the line share, None when some of it is missing.

    A file that is there still and that no report names any more is counted as not covered.
    """
    by_attempt = coverage_files_of_attempts(session, list(compared.attempts.values()))
    by_job: dict[str, list[Mapping[str, FileCoverage]]] = {}
    for (job, _), attempt in compared.attempts.items():
        if attempt in by_attempt:
            by_job.setdefault(job, []).append(by_attempt[attempt])
    trouble = any(c.counts.coverage_trouble for c in cells)
    for job in () if trouble else list(by_job):
        unnamed = _unnamed(session, run, job, by_job[job], then, plan)
        by_job[job] += [unnamed] if unnamed else []
    merged = {job: merge_files(parts) for job, parts in by_job.items()}
    for job, files in merged.items():
        keep_coverage(session, project_id, run.id, job, None, files)
    (only,) = merged.values() if len(merged) == 1 else (None,)
    whole = only if only is not None else merge_files(part for parts in by_job.values() for part in parts)
    keep_coverage(session, project_id, run.id, "", None, whole)
    if trouble:
        return None
    return sum((f.totals for f in whole.values()), Totals()).line_share


def _unnamed(
    session: Session,
    run: Run,
    job: str,
    now: Sequence[Mapping[str, FileCoverage]],
    then: CoveredBefore,
    plan: Plan | None,
) -> dict[str, FileCoverage]:
    """Files that a job's reports named at its baseline and name no more, though they are there: nothing covers them.

    Nothing is said where cells that were measured there gave none now: their files may be those that are missing.
    """
    base = then.base(session, [job])
    if base is None or len(cells_with_coverage(session, base.id, job)) > len(now):
        return {}
    before = then.files(session, [job])
    away = set(before).difference(*now)
    excluded = plan.coverage.exclude if plan is not None else ()
    away = {path for path in away if not any(matches(glob, path) for glob in excluded)}
    if not away:
        return {}
    after = run.tested or run.commit
    try:
        away &= set(then.mirror.files(after))
        hunks = then.mirror.hunks(base.tested or base.commit, after) if away else {}
    except GitError:
        return {}
    found = carried({path: before[path] for path in away}, hunks)
    return {path: _uncovered(file) for path, file in found.items() if len(file.lines)}


def _uncovered(file: FileCoverage) -> FileCoverage:
    zero = np.zeros(len(file.lines), np.int32)
    branches = np.zeros(len(file.branch_lines), np.int32)
    arms = replace(file.arms, taken=np.zeros(len(file.arms.lines), np.int32))
    functions = tuple(replace(f, hits=0) for f in file.functions)
    return replace(file, hits=zero, branches_covered=branches, arms=arms, functions=functions)


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
