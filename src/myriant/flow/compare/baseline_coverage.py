"""Coverage at the baselines: each job's part as it was at that job's own.

What a held run lost is never anybody's baseline, though another job of it held nobody up. Parts of several commits
are put together by the lines of the newest: lines that changed since a part was measured are left out of it.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import Arms, FileCoverage, Totals, Unit
from myriant.core.coverage.view import Hunk, Moved, lost_of
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.store.coverage import coverage_totals_of, jobs_with_coverage, merged_coverage_of
from myriant.store.judged import job_results_of, runs_with_ids
from myriant.store.tables import Project, Run

Files = Mapping[str, FileCoverage]


@dataclass(frozen=True, slots=True)
class Part:
    """Jobs whose coverage is that of one run."""

    run: Run
    jobs: tuple[str, ...]

    @property
    def commit(self) -> str:
        return self.run.tested or self.run.commit


@dataclass(frozen=True, slots=True)
class CoveredBefore:
    """Coverage of a run's jobs as it was at their baselines; `none` is what a run without them is compared with."""

    mirror: Mirror
    baselines: Mapping[str, Run | None]
    none: Run | None

    def parts(self, session: Session, jobs: Collection[str] = ()) -> list[Part]:
        """The runs at which these jobs (none given: all) have their coverage, the newest first."""
        by_run: dict[int, tuple[Run, list[str]]] = {}
        bases = {base.id for base in self.baselines.values() if base is not None}
        known = {run: jobs_with_coverage(session, run) for run in bases}
        for job in jobs or self.baselines:
            base = self.baselines.get(job)
            if base is not None and job in known[base.id]:
                by_run.setdefault(base.id, (base, []))[1].append(job)
        found = [Part(run, tuple(names)) for run, names in by_run.values()]
        return sorted(found, key=lambda p: (p.run.depth, p.run.number), reverse=True)

    def base(self, session: Session, jobs: Collection[str] = ()) -> Run | None:
        """The newest run that gives a part, else what there is to compare with."""
        parts = self.parts(session, jobs)
        return parts[0].run if parts else self.none

    def since(self, session: Session, jobs: Collection[str] = ()) -> Run | None:
        """The oldest run that gives a part: what changed since then is not known to be covered."""
        parts = self.parts(session, jobs)
        return parts[-1].run if parts else self.none

    def files(self, session: Session, jobs: Sequence[str] = (), path: str | None = None) -> Files:
        """By path, at the commit of `base`."""
        parts = self.parts(session, jobs)
        if len(parts) < 2:
            base = parts[0].run if parts else self.none
            return _merged(session, base, jobs, path) if base is not None else {}
        newest = parts[0]
        found = [_merged(session, newest.run, newest.jobs, path)]
        for part in parts[1:]:
            files = _merged(session, part.run, part.jobs, path)
            try:
                found.append(carried(files, self.mirror.hunks(part.commit, newest.commit)))
            except GitError:
                found.append(files)
        return merge_files(found)

    def share(
        self, session: Session, jobs: Sequence[str] = (), folder: str | None = None, of: Unit = "lines"
    ) -> Fraction | None:
        """The share of lines, branches or functions, of one folder's files (None: of all); None without any."""
        parts = self.parts(session, jobs)
        if len(parts) < 2 and len(jobs) < 2 and folder is None:
            base = parts[0].run if parts else self.none
            job = jobs[0] if jobs else ""
            totals = coverage_totals_of(session, [base.id]).get((base.id, job)) if base is not None else None
            return totals.share(of) if totals is not None else None
        files = self.files(session, jobs)
        return sum((f.totals for path, f in files.items() if below(path, folder)), Totals()).share(of)

    def lost(
        self, session: Session, now: Files, after: str, present: Collection[str], jobs: Sequence[str] = ()
    ) -> dict[str, list[int]]:
        """By path, the lines (of the commit `after`) that were covered, did not change, and are not now."""
        base = self.base(session, jobs)
        if base is None:
            return {}
        then = self.files(session, jobs)
        return lost_of(then, now, self.mirror.hunks(base.tested or base.commit, after), present)


def gate_bases_of(session: Session, run: Run) -> dict[str, Run | None]:
    """By job, the baseline at which a judged run's gate measured it."""
    rows = job_results_of(session, run.id)
    bases = runs_with_ids(session, {row.baseline_id for row in rows.values() if row.baseline_id})
    return {job: bases.get(row.baseline_id or 0) for job, row in rows.items()}


def covered_before(
    site: Site, project: Project, baselines: Mapping[str, Run | None], none: Run | None
) -> CoveredBefore:
    return CoveredBefore(site.mirror(project), baselines, none)


def _merged(session: Session, run: Run, jobs: Sequence[str], path: str | None) -> Files:
    found = merged_coverage_of(session, run.id, list(jobs) or [""], path)
    return next(iter(found.values())) if len(found) == 1 else merge_files(found.values())


def below(path: str, folder: str | None) -> bool:
    return folder is None or path.startswith(folder.strip("/").removeprefix("./") + "/")


def carried(files: Files, hunks: Mapping[str, Sequence[Hunk]]) -> dict[str, FileCoverage]:
    """Coverage by the lines of a later commit; lines that changed have none, and which branch was taken is forgotten
    in a file that did."""
    return {path: _carried(file, hunks[path]) if path in hunks else file for path, file in files.items()}


def _carried(file: FileCoverage, hunks: Sequence[Hunk]) -> FileCoverage:
    moved = Moved(hunks)
    lines = [(to, i) for i, n in enumerate(file.lines.tolist()) if (to := moved.to(int(n))) is not None]
    branches = [(to, i) for i, n in enumerate(file.branch_lines.tolist()) if (to := moved.to(int(n))) is not None]
    at, places = np.array([i for _, i in lines], np.int64), np.array([i for _, i in branches], np.int64)
    functions = tuple(
        replace(f, line=to) for f in file.functions if (to := moved.to(f.line) if f.line else 0) is not None
    )
    return FileCoverage(
        np.array([to for to, _ in lines], np.int32),
        file.hits[at],
        np.array([to for to, _ in branches], np.int32),
        file.branches_valid[places],
        file.branches_covered[places],
        Arms(),
        functions,
    )
