"""Fewer cells: what any part of a job's matrix would have found over its past."""

from __future__ import annotations

from dataclasses import dataclass

from myriant.core.trends.fewer import Checked, Fewer, Order, Way, fewer
from myriant.core.written import counted, duration
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.views.trends.versions import past_cells


@dataclass(frozen=True, slots=True)
class FewerStep:
    """These cells at every push, and all of them at night."""

    key: str
    found: int
    seconds: float
    late: int
    over: int
    hours: float | None
    saved: float


@dataclass(frozen=True, slots=True)
class FewerCells:
    """What the past of one job says of fewer cells."""

    job: str
    said: str
    cells: int
    runs: int
    breaks: int
    seconds: float
    steps: list[FewerStep]
    ways: list[Way]
    orders: list[Order]
    checked: Checked | None


def fewer_cells(site: Site, name: str, most: int) -> list[FewerCells]:
    """For each job of the main branch whose past says anything of it. Raises NotFound."""
    with site.store.view() as session:
        cells, past = past_cells(session, the_project(session, name), most)
    at = {number: run.at.timestamp() for number, run in past.items()}
    found = (fewer(cells, job, at) for job in dict.fromkeys(c.job for c in cells))
    return [_view(f) for f in found if f is not None]


def _view(f: Fewer) -> FewerCells:
    steps = [
        FewerStep(
            ",".join(f"{d}={v}" for d, v in s.values.items()), s.found, s.seconds, s.late, s.over, s.hours, s.saved
        )
        for s in f.steps
    ]
    return FewerCells(f.job, _said(f), f.cells, f.runs, f.breaks, f.seconds, steps, f.ways, f.orders, f.checked)


def _said(f: Fewer) -> str:
    over = f"over {counted(f.runs, 'run')} with all {counted(f.cells, 'cell')}"
    if not f.steps:
        return f"Nothing newly failed {over}: nothing says which cells are worth their time."
    last = f.steps[-1]
    share = round(100 * last.seconds / f.seconds) if f.seconds else 0
    breaks = f"all {f.breaks} breaks" if f.breaks > 1 else "the only break"
    told = (
        f"{counted(len(f.steps), 'cell')} would have found {breaks} {over}, in "
        f"{duration(last.seconds)} of runners a run instead of {duration(f.seconds)} ({share} %)."
    )
    if f.checked is None:
        return f"{told} That is said of the breaks by which they were chosen: too few came later to try it."
    c = f.checked
    return (
        f"{told} Chosen by the breaks before #{c.since} alone, {counted(c.cells, 'cell')} would have found "
        f"{c.found} of the {c.breaks} that came since."
    )
