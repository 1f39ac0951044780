"""The strip: the runs of a branch, tag or pull request in columns of marks."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

from sqlalchemy import ColumnElement, and_, case, func, select

from myriant.core.coverage.model import Totals
from myriant.core.plan.versions import version_key
from myriant.flow.ask.lines import RunLine, run_line
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.store.coverage import coverage_totals_of
from myriant.store.tables import Cell, Run

LETTERS = {
    "passed": "p", "new": "n", "failed": "n", "known": "k", "fixed": "x", "first": "f", "void": "v", "quarantined": "q",
    "skipped": "s", "not-selected": "-", "running": "r", "waiting": "w", "stopped": "o", "flaky": "y",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Lane:
    """The cells of one job, in the order in which `marks` of the columns name them."""

    job: str
    title: str
    keys: list[str]


@dataclass(frozen=True, slots=True)
class Column:
    """A run on the strip; `marks` has one letter a cell over all lanes, capital for advisory, a blank for none."""

    run: RunLine
    marks: str
    new: int
    fixed: int
    coverage: float | None  # line share, merged over the cells
    gap: int  # commits before this one, back to the column before, that have no run of their own


@dataclass(frozen=True, slots=True)
class Strip:
    project: str
    branch: str
    branches: list[str]
    lanes: list[Lane]
    columns: list[Column]  # oldest first
    more: bool  # there are older runs


def strip_of(site: Site, name: str, branch: str | None, before: int | None, limit: int) -> Strip:
    """The newest `limit` runs of a branch in the order of ancestry, those before run number `before` if given."""
    with site.store.transaction() as session:
        found = the_project(session, name)
        branch = branch or found.main_branch
        query = select(Run).where(Run.project_id == found.id, on_ref(branch))
        if before is not None:
            pivot = the_run(session, found, before)
            query = query.where((Run.depth < pivot.depth) | ((Run.depth == pivot.depth) & (Run.number < pivot.number)))
        rows = list(session.scalars(query.order_by(Run.depth.desc(), Run.number.desc()).limit(limit + 1)))
        more, runs = len(rows) > limit, list(reversed(rows[:limit]))
        cells = session.execute(
            select(Cell.run_id, Cell.job, Cell.job_title, Cell.key, Cell.mark, Cell.advisory)
            .where(Cell.run_id.in_([r.id for r in runs]))
            .order_by(Cell.run_id.desc(), Cell.position)
        ).all()
        shares = coverage_totals_of(session, [r.id for r in runs])
        named = case(
            (Run.pull_request.is_not(None), func.concat(PULL, Run.pull_request)),
            (Run.tag != "", func.concat(TAGGED, Run.tag)),
            else_=Run.branch,
        )
        refs = select(named).where(Run.project_id == found.id).group_by(named).order_by(func.max(Run.id).desc())
        branches = list(session.scalars(refs.limit(200)))
    lanes: dict[str, Lane] = {}
    for _, job, title, key, *_ in cells:
        lane = lanes.setdefault(job, Lane(job, title, []))
        if key not in lane.keys:
            lane.keys.append(key)
    for lane in lanes.values():
        lane.keys.sort(key=lambda key: [version_key(part) for part in key.split(",")])
    place = {(lane.job, key): 0 for lane in lanes.values() for key in lane.keys}
    place = {name: i for i, name in enumerate(place)}
    marks: dict[int, list[str]] = {r.id: [" "] * len(place) for r in runs}
    for run_id, job, _, key, mark, advisory in cells:
        letter = LETTERS.get(mark, "w")
        marks[run_id][place[(job, key)]] = letter.upper() if advisory else letter
    gaps = [0, *(max(0, b.depth - a.depth - 1) for a, b in itertools.pairwise(runs))]
    columns = [
        Column(
            run_line(r),
            "".join(marks[r.id]),
            _counted(r, "tests.new"),
            _counted(r, "tests.fixed"),
            fraction_of(shares.get((r.id, ""))),
            gap,
        )
        for r, gap in zip(runs, gaps, strict=False)
    ]
    return Strip(name, branch, branches, list(lanes.values()), columns, more)


PULL, TAGGED = "pull request ", "tag "


def on_ref(ref: str) -> ColumnElement[bool]:
    """Runs of a branch, of a tag ("tag v1.0") or of a pull request ("pull request 7", which no branch shows)."""
    if ref.startswith(PULL) and ref.removeprefix(PULL).isdigit():
        return Run.pull_request == int(ref.removeprefix(PULL)[:9])
    if ref.startswith(TAGGED):
        return Run.tag == ref.removeprefix(TAGGED)
    return and_(Run.branch == ref, Run.pull_request.is_(None))


def _counted(row: Run, measure: str) -> int:
    """A count of distinct tests: a test belongs to one job, so the jobs' counts add up."""
    return sum(job[measure] for job in row.measures.get("jobs", {}).values())


def fraction_of(totals: Totals | None) -> float | None:
    return None if totals is None or totals.line_share is None else float(totals.line_share)
