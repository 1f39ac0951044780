"""The Desk: what needs a decision now, and every project's newest runs."""

from __future__ import annotations

import itertools
import statistics
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.flow.ask.lines import RunLine, run_line
from myriant.flow.ask.projects import ProjectLine, line_of
from myriant.flow.ask.queue import Load, load_of, stuck_cells
from myriant.flow.ask.strip import LETTERS, fraction_of, on_ref
from myriant.flow.site import Site
from myriant.store.coverage import coverage_totals_of
from myriant.store.tables import Cell, Project, Run


@dataclass(frozen=True, slots=True)
class DeskRun:
    """One of a project's newest runs, in a few marks."""

    number: int
    title: str
    verdict: str
    marks: str  # one letter a cell
    coverage: float | None
    seconds: float | None  # from the event to the verdict


@dataclass(frozen=True, slots=True)
class StuckCell:
    project: str
    run: int
    job: str
    key: str
    reason: str


@dataclass(frozen=True, slots=True)
class DeskProject:
    project: ProjectLine
    held_since: RunLine | None  # the first of the held runs in a row up to now
    runs: list[DeskRun]  # oldest first
    seconds: float | None  # median time to the verdict


@dataclass(frozen=True, slots=True)
class Desk:
    projects: list[DeskProject]
    stuck: list[StuckCell]
    pulse: Load


def load_now(site: Site) -> Load:
    with site.store.transaction() as session:
        return load_of(session)


DESK_RUNS = 30


def desk_view(site: Site) -> Desk:
    """What needs a decision now, and every project's newest runs."""
    with site.store.transaction() as session:
        found = list(session.scalars(select(Project).order_by(Project.name)))
        rows = [_desk_project(session, p) for p in found]
        stuck = [StuckCell(c.project, c.run, c.job, c.key, c.reason) for c in stuck_cells(session)]
        return Desk(rows, stuck, load_of(session))


def _desk_project(session: Session, p: Project) -> DeskProject:
    newest = list(
        session.scalars(
            select(Run)
            .where(Run.project_id == p.id, on_ref(p.main_branch))
            .order_by(Run.depth.desc(), Run.number.desc())
            .limit(DESK_RUNS)
        )
    )
    held = list(itertools.takewhile(lambda r: r.verdict != "clear", newest))
    marks: dict[int, list[str]] = {r.id: [] for r in newest}
    cells = select(Cell.run_id, Cell.mark).where(Cell.run_id.in_(list(marks))).order_by(Cell.run_id, Cell.position)
    for run_id, mark in session.execute(cells):
        marks[run_id].append(LETTERS.get(mark, "w"))
    shares = coverage_totals_of(session, list(marks))
    runs = [
        DeskRun(r.number, r.title, r.verdict, "".join(marks[r.id]), fraction_of(shares.get((r.id, ""))), _seconds(r))
        for r in reversed(newest)
    ]
    times = [r.seconds for r in runs if r.seconds is not None]
    first = next((r for r in reversed(held) if r.verdict == "held"), None)
    return DeskProject(
        line_of(session, p), run_line(first) if first else None, runs, statistics.median(times) if times else None
    )


def _seconds(row: Run) -> float | None:
    return (
        (row.ended_at - row.created_at).total_seconds() if row.ended_at and row.verdict in ("clear", "held") else None
    )
