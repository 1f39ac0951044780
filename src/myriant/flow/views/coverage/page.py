"""The section Coverage of a run: its change first, what was lost elsewhere, every file, one file line by line."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from functools import partial

from sqlalchemy.orm import Session

from myriant.core.coverage.cells import shares_of_cells
from myriant.core.coverage.export import cobertura, lcov, table
from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import FileCoverage, Totals
from myriant.core.coverage.view import ChangedFile, Hunk, Reach, changed_files, lost_lines, lost_of, reached_by
from myriant.core.written import counted, percent
from myriant.flow.compare.baseline_coverage import CoveredBefore, gate_bases_of
from myriant.flow.errors import NotFound
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.cells import cells_of
from myriant.store.coverage import (
    coverage_files_of_attempts,
    coverage_totals_of_attempts,
    jobs_with_coverage,
    merged_coverage_of,
)
from myriant.store.tables import Project, Run

MOST_CHANGED = 400  # files of a change that are listed
_SHOWN = 3  # names in a sentence
MOST_LOST = 200  # files with lost lines that are listed


@dataclass(frozen=True, slots=True)
class Share:
    """Covered of coverable; `text` is the percentage."""

    covered: int
    valid: int
    text: str


@dataclass(frozen=True, slots=True)
class FileShare:
    path: str
    covered: int
    valid: int
    before: Share | None  # at the baseline
    changed: int  # changed lines of it that nothing ran
    lost: int


@dataclass(frozen=True, slots=True)
class LostFile:
    """Lines that did not change, were covered at the baseline, and are no more."""

    path: str
    lines: list[int]


@dataclass(frozen=True, slots=True)
class ChangeCovered:
    share: Share | None  # None: nothing of the change can be covered
    files: list[ChangedFile]
    more: int  # files beyond those listed
    nothing: str  # why nothing of the change is measured


@dataclass(frozen=True, slots=True)
class CoverageOfRun:
    said: str
    job: str  # empty: all of them together
    jobs: list[str]
    commit: str
    against: str | None  # the commit at the baseline
    against_run: int | None
    line: Share | None
    branch: Share | None
    function: Share | None
    line_before: Share | None
    change: ChangeCovered
    lost: list[LostFile]
    files: list[FileShare]


@dataclass(frozen=True, slots=True)
class FileLine:
    """A line that can be covered. `some` is an index into `reaches` when only some cells reach it."""

    number: int
    hits: int
    taken: int  # branches
    branches: int
    some: int | None


@dataclass(frozen=True, slots=True)
class CoverageOfFile:
    path: str
    commit: str
    covered: int
    valid: int
    lines: list[FileLine]
    reaches: list[Reach]
    cells: int  # that gave coverage
    changed: list[int]
    lost: list[int]


@dataclass(frozen=True, slots=True)
class _Two:
    """A run's coverage, its baseline's, and what lies between."""

    now: Mapping[str, FileCoverage]
    before: Mapping[str, FileCoverage]
    after_commit: str
    before_commit: str | None
    read_against: Run | None  # whose lines those of before are
    changed: Mapping[str, set[int]]
    hunks: Mapping[str, Sequence[Hunk]]
    present: frozenset[str]

    @property
    def read_commit(self) -> str | None:
        read = self.read_against
        return (read.tested or read.commit) if read is not None else None


def coverage_of_run(site: Site, name: str, number: int, job: str = "", against: int | None = None) -> CoverageOfRun:
    """Read against its baseline, or the run of another number. Raises NotFound for a run without coverage."""
    with site.store.view() as session:
        project = the_project(session, name)
        run = the_run(session, project, number)
        base = _against(session, project, run, against)
        jobs = _jobs(session, run)
        if not jobs and run.ended_at is None:
            raise NotFound(f"the coverage of #{number} is merged when its cells have ended", "wait for its verdict")
        if not jobs:
            raise NotFound(f"#{number} has no coverage", "collect it: coverage = [...] in a step's collect")
        if job and job not in jobs:
            raise NotFound(f"job {job[:80]} of #{number} has no coverage", f"those that have: {', '.join(jobs)}")
        two = _two(site, session, project, run, base, job, chosen=against is not None)
        away = sorted(_measured(session, base, job) - _measured(session, run, job)) if base is not None else []
    texts_of = partial(site.mirror(project).texts, two.after_commit)
    found = changed_files(two.now, two.changed, two.present, texts_of) if two.before_commit else []
    lost = _lost(two)
    change = _change(two, found)
    line, before = _share(two.now), _share(two.before)
    bare = {f.path: len(f.uncovered) for f in found or ()}
    lost_by = {f.path: len(f.lines) for f in lost}
    branches = sum((f.totals for f in two.now.values()), Totals())
    return CoverageOfRun(
        _said(line, before, change, lost, away),
        job,
        jobs,
        two.after_commit,
        two.read_commit,
        two.read_against.number if two.read_against is not None else None,
        line,
        _of(branches.branches_covered, branches.branches_valid),
        _of(branches.functions_covered, branches.functions_valid),
        before,
        change,
        lost[:MOST_LOST],
        [
            FileShare(
                path,
                f.totals.lines_covered,
                f.totals.lines_valid,
                _share_of(two.before.get(path)),
                bare.get(path, 0),
                lost_by.get(path, 0),
            )
            for path, f in sorted(two.now.items())
        ],
    )


def _against(session: Session, project: Project, run: Run, number: int | None) -> Run | None:
    if number is not None:
        return the_run(session, project, number)
    return session.get(Run, run.baseline_id) if run.baseline_id else None


def coverage_of_file(
    site: Site, name: str, number: int, path: str, job: str = "", against: int | None = None
) -> CoverageOfFile:
    """One file, line by line, with the cells that reach each. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        run = the_run(session, project, number)
        base = _against(session, project, run, against)
        two = _two(site, session, project, run, base, job, path, chosen=against is not None)
        cells = [c for c in cells_of(session, run.id) if c.attempt_id is not None and (not job or c.job == job)]
        by_attempt = coverage_files_of_attempts(
            session, [c.attempt_id for c in cells if c.attempt_id is not None], path
        )
    file = two.now.get(path)
    if file is None:
        raise NotFound(f"no report of #{number} names {path[:300]}", "it may be reported under another path")
    given = [c for c in cells if path in by_attempt.get(c.attempt_id or 0, {})]
    names = [(f"{c.job} {c.key}".strip(), {"job": c.job, **c.values}) for c in given]
    some, reaches = reached_by(path, names, [by_attempt[c.attempt_id or 0] for c in given])
    branches = dict(
        zip(
            file.branch_lines.tolist(),
            zip(file.branches_covered.tolist(), file.branches_valid.tolist(), strict=True),
            strict=True,
        )
    )
    lines = []
    for n, hits in zip(file.lines.tolist(), file.hits.tolist(), strict=True):
        taken, valid = branches.get(n, (0, 0))
        lines.append(FileLine(int(n), int(hits), int(taken), int(valid), some.get(int(n))))
    lost = lost_lines(two.before[path], file, two.hunks.get(path, ())) if path in two.before else []
    totals = file.totals
    return CoverageOfFile(
        path,
        two.after_commit,
        totals.lines_covered,
        totals.lines_valid,
        lines,
        reaches,
        len(given),
        sorted(two.changed.get(path, ())),
        lost,
    )


@dataclass(frozen=True, slots=True)
class CellShare:
    """What a cell adds: lines it reaches, and those that no other cell does."""

    job: str
    key: str
    reached: int
    alone: int
    least: bool  # it belongs to the few that reach all of them


@dataclass(frozen=True, slots=True)
class CoverageByCell:
    said: str
    lines: int  # that some cell reaches
    cells: list[CellShare]


def coverage_by_cell(site: Site, name: str, number: int, job: str = "") -> CoverageByCell:
    """What each cell adds to what all of them cover. Raises NotFound for a run without coverage."""
    with site.store.view() as session:
        run = the_run(session, the_project(session, name), number)
        cells = [c for c in cells_of(session, run.id) if c.attempt_id is not None and (not job or c.job == job)]
        by_attempt = coverage_files_of_attempts(session, [c.attempt_id for c in cells if c.attempt_id is not None])
    given = [c for c in cells if c.attempt_id in by_attempt]
    if not given:
        raise NotFound(f"#{number} has no coverage", "collect it: coverage = [...] in a step's collect")
    of_cells = [by_attempt[c.attempt_id or 0] for c in given]
    found = shares_of_cells(of_cells)
    lines = sum(f.totals.lines_covered for f in merge_files(of_cells).values())
    few = [f"{given[i].job} {given[i].key}".strip() for i in found.least]
    shown = [
        CellShare(c.job, c.key, reached, alone, i in found.least)
        for i, (c, reached, alone) in enumerate(zip(given, found.reached, found.alone, strict=True))
    ]
    return CoverageByCell(_of_cells(few, len(given), found.smallest), lines, shown)


def _of_cells(few: Sequence[str], cells: int, smallest: bool) -> str:
    if cells == 1:
        return "One cell gave coverage."
    if not few:
        return "No cell reaches a line."
    names = ", ".join(few[:_SHOWN]) + (f" and {len(few) - _SHOWN} more" if len(few) > _SHOWN else "")
    if len(few) == cells:
        return f"Each of the {cells} cells reaches lines that the others do not."
    sure = "" if smallest else "; fewer may do"
    return (
        f"{'One cell reaches' if len(few) == 1 else f'{len(few)} cells reach'} every line that the {cells} reach "
        f"({names}){sure}. Tests may need the others all the same: to run a line is not to judge it."
    )


def coverage_as(site: Site, name: str, number: int, form: str, job: str = "") -> str:
    """The merged coverage as text: "lcov" (geninfo(1)), "cobertura" (XML) or "csv", a line a file. Raises NotFound."""
    with site.store.view() as session:
        run = the_run(session, the_project(session, name), number)
        files = merged_coverage_of(session, run.id, [job]).get(job)
    if files is None:
        raise NotFound(f"#{number} has no coverage", "collect it: coverage = [...] in a step's collect")
    return {"lcov": lcov, "csv": table, "cobertura": cobertura}[form](files)


def _jobs(session: Session, run: Run) -> list[str]:
    with_some = jobs_with_coverage(session, run.id)
    return [job for job in dict.fromkeys(c.job for c in cells_of(session, run.id)) if job in with_some]


def _two(
    site: Site,
    session: Session,
    project: Project,
    run: Run,
    base: Run | None,
    job: str,
    path: str | None = None,
    *,
    chosen: bool,
) -> _Two:
    """`chosen`: a person chose what it is read against, so a pull request's target does not matter."""
    now = merged_coverage_of(session, run.id, [job], path).get(job, {})
    jobs = [job] if job else []
    then = CoveredBefore(site.mirror(project), {} if chosen else gate_bases_of(session, run), base)
    before = then.files(session, jobs, path)
    commit, read, oldest = run.tested or run.commit, then.base(session, jobs), then.since(session, jobs)
    since = None if chosen else run.base
    since = since or ((oldest.tested or oldest.commit) if oldest is not None else None)
    changed: Mapping[str, set[int]] = {}
    hunks: Mapping[str, Sequence[Hunk]] = {}
    present: frozenset[str] = frozenset()
    try:
        mirror = site.mirror(project)
        present = frozenset(mirror.files(commit))
        if since is not None:
            changed = mirror.changed_lines(since, commit)
        if read is not None:
            hunks = mirror.hunks(read.tested or read.commit, commit)
    except GitError:
        since = None
    return _Two(now, before, commit, since, read, changed, hunks, present)


def _lost(two: _Two) -> list[LostFile]:
    found = [LostFile(path, lines) for path, lines in lost_of(two.before, two.now, two.hunks, two.present).items()]
    return sorted(found, key=lambda f: (-len(f.lines), f.path))


def _change(two: _Two, found: list[ChangedFile] | None) -> ChangeCovered:
    if two.before_commit is None:
        return ChangeCovered(None, [], 0, "there is nothing earlier to have changed since")
    if found is None:
        return ChangeCovered(None, [], 0, "no report names a file of the repository")
    coverable = sum(f.coverable for f in found)
    nothing = "" if coverable else "no line changed that could be covered"
    share = _of(sum(f.covered for f in found), coverable)
    return ChangeCovered(share, found[:MOST_CHANGED], max(0, len(found) - MOST_CHANGED), nothing)


def _measured(session: Session, run: Run, job: str) -> set[str]:
    """Names of a run's cells that gave coverage."""
    cells = {c.attempt_id: f"{c.job} {c.key}".strip() for c in cells_of(session, run.id) if not job or c.job == job}
    with_some = coverage_totals_of_attempts(session, [a for a in cells if a is not None])
    return {name for attempt, name in cells.items() if attempt in with_some}


def _said(
    line: Share | None, before: Share | None, change: ChangeCovered, lost: Sequence[LostFile], away: Sequence[str]
) -> str:
    """The sentence that opens the section; `away` are cells that were measured at the baseline and not here."""
    words = [f"{line.text} of {line.valid:,} lines are covered" if line is not None else "No line can be covered"]
    if line is not None and before is not None:
        moved = float((Fraction(line.covered, line.valid) - Fraction(before.covered, before.valid)) * 100)
        words[0] += f" ({'+' if moved > 0 else '−' if moved < 0 else '±'}{abs(moved):.1f} points)"
    if change.share is not None:
        words.append(_of_change(change.share.covered, change.share.valid))
    gone = sum(len(f.lines) for f in lost)
    if gone:
        words.append(f"{counted(gone, 'line')} that did not change {'is' if gone == 1 else 'are'} reached no more")
    if away:
        shown = ", ".join(away[:_SHOWN]) + (f" and {len(away) - _SHOWN} more" if len(away) > _SHOWN else "")
        words.append(f"{counted(len(away), 'cell')} measured there gave nothing here ({shown}), so this may miss lines")
    return "; ".join(words) + "."


def _of_change(covered: int, valid: int) -> str:
    bare, lines = valid - covered, counted(valid, "changed line")
    if not bare:
        return f"all {lines} were run" if valid > 1 else "the changed line was run"
    if not covered:
        return f"none of the {lines} was run" if valid > 1 else "the changed line was run by nothing"
    return f"{bare:,} of {lines} {'was' if bare == 1 else 'were'} run by nothing"


def _share(files: Mapping[str, FileCoverage]) -> Share | None:
    totals = sum((f.totals for f in files.values()), Totals())
    return _of(totals.lines_covered, totals.lines_valid)


def _share_of(file: FileCoverage | None) -> Share | None:
    return _of(file.totals.lines_covered, file.totals.lines_valid) if file is not None else None


def _of(covered: int, valid: int) -> Share | None:
    return Share(covered, valid, percent(Fraction(covered, valid))) if valid else None
