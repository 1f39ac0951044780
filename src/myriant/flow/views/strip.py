"""The strip: the runs of a branch, tag or pull request in columns of marks."""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from dataclasses import dataclass

from myriant.core.coverage.model import Totals
from myriant.core.plan.versions import version_key
from myriant.core.states import Mark
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.flow.views.lines import RunLine, counted_in, is_undecided, run_line, so_far
from myriant.flow.views.words import words_of
from myriant.store.cells import marks_of_runs
from myriant.store.coverage import coverage_totals_of
from myriant.store.runs import refs_with_runs, runs_on

LETTERS: Mapping[Mark, str] = {
    Mark.PASSED: "p",
    Mark.NEW: "n",
    Mark.KNOWN: "k",
    Mark.FIXED: "x",
    Mark.CAME_BACK: "c",
    Mark.FIRST: "f",
    Mark.VOID: "v",
    Mark.QUARANTINED: "q",
    Mark.SKIPPED: "s",
    Mark.NOT_SELECTED: "-",
    Mark.RUNNING: "r",
    Mark.WAITING: "w",
    Mark.STOPPED: "o",
    Mark.FLAKY: "y",
}


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
    with site.store.view() as session:
        found = the_project(session, name)
        branch = branch or found.main_branch
        pivot = the_run(session, found, before) if before is not None else None
        rows = runs_on(session, found.id, branch, limit + 1, pivot)
        more, runs = len(rows) > limit, list(reversed(rows[:limit]))
        cells = marks_of_runs(session, [r.id for r in runs])
        shares = coverage_totals_of(session, [r.id for r in runs])
        branches = refs_with_runs(session, found.id, 200)
        words = words_of(session, found.id, {r.commit for r in runs})
        far = so_far(session, runs)
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
        letter = LETTERS[mark]
        marks[run_id][place[(job, key)]] = letter.upper() if advisory else letter
    gaps = [0, *(max(0, b.depth - a.depth - 1) for a, b in itertools.pairwise(runs))]
    columns = [
        Column(
            run_line(r, words[r.commit], far.get(r.id, "")),
            "".join(marks[r.id]),
            counted_in(r, "tests.new"),
            counted_in(r, "tests.fixed"),
            None if is_undecided(r) else fraction_of(shares.get((r.id, ""))),
            gap,
        )
        for r, gap in zip(runs, gaps, strict=False)
    ]
    return Strip(name, branch, branches, list(lanes.values()), columns, more)


def fraction_of(totals: Totals | None) -> float | None:
    return None if totals is None or totals.line_share is None else float(totals.line_share)
