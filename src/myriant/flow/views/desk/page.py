"""The Desk: what needs a decision now, and every project's newest runs."""

from __future__ import annotations

import itertools
import statistics
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.coverage.model import Totals
from myriant.core.gate.word import Word
from myriant.core.plan.model import Plan
from myriant.core.states import DECIDED, Verdict
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.flow.views.cost import budgets_nearly_spent
from myriant.flow.views.desk.projects import ProjectLine, lines_of
from myriant.flow.views.lines import RunLine, is_undecided, run_line
from myriant.flow.views.runners.queue import Load, load_of, stuck_cells
from myriant.flow.views.strip import LETTERS, fraction_of
from myriant.flow.views.words import words_of_many
from myriant.store.cells import marks_of_runs
from myriant.store.coverage import coverage_totals_of
from myriant.store.projects import all_projects, strangers_waiting
from myriant.store.releases import failed_housekeeping
from myriant.store.runs import approvals_waiting, newest_planned_push, newest_runs_on_main
from myriant.store.tables import Project, Run
from myriant.store.takings import all_open_takings


@dataclass(frozen=True, slots=True)
class DeskRun:
    """One of a project's newest runs, in a few marks."""

    number: int
    title: str
    word: Verdict  # of its commit
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
class WaitingApproval:
    """A job that waits for a person's word."""

    project: str
    run: int
    job: str
    until: datetime


@dataclass(frozen=True, slots=True)
class BudgetNote:
    """A budget that is nearly spent, or will be."""

    project: str
    said: str


@dataclass(frozen=True, slots=True)
class GateNote:
    """A gate that was tried by schedule and did not hold."""

    project: str
    said: str


@dataclass(frozen=True, slots=True)
class Untidy:
    """A housekeeping job that did not end well when it ran last."""

    project: str
    run: int
    job: str
    reason: str


@dataclass(frozen=True, slots=True)
class StrangersPull:
    """A pull request of somebody who may not write here: a maintainer looks at it before it runs."""

    project: str
    number: int
    title: str
    author: str
    head: str


@dataclass(frozen=True, slots=True)
class DeskProject:
    project: ProjectLine
    held_since: RunLine | None  # the first of the held runs in a row up to now
    runs: list[DeskRun]  # oldest first
    seconds: float | None  # median time to the verdict
    taken: list[TakenCause]


@dataclass(frozen=True, slots=True)
class TakenCause:
    """A cause of failures that somebody sees to."""

    title: str
    by: str
    run: int
    finding: str


@dataclass(frozen=True, slots=True)
class Desk:
    projects: list[DeskProject]
    stuck: list[StuckCell]
    approvals: list[WaitingApproval]
    strangers: list[StrangersPull]
    budgets: list[BudgetNote]
    gates: list[GateNote]
    untidy: list[Untidy]
    pulse: Load


def load_now(site: Site) -> Load:
    with site.store.view() as session:
        return load_of(session)


DESK_RUNS = 30


def desk_view(site: Site) -> Desk:
    """What needs a decision now, and every project's newest runs."""
    with site.store.view() as session:
        newest = newest_runs_on_main(session, DESK_RUNS)
        every = [r for runs in newest.values() for r in runs]
        marks: dict[int, list[str]] = {r.id: [] for r in every}
        for run_id, _, _, _, mark, advisory in marks_of_runs(session, list(marks)):
            marks[run_id].append(LETTERS[mark].upper() if advisory else LETTERS[mark])
        shares = coverage_totals_of(session, list(marks))
        taken: dict[int, list[TakenCause]] = {}
        for t in all_open_takings(session):
            taken.setdefault(t.project_id, []).append(TakenCause(t.title, t.by, t.run, t.signature))
        projects = all_projects(session)
        words = words_of_many(session, {p.id: {r.commit for r in newest.get(p.id, ())} for p in projects})
        lines = lines_of(session, projects, newest, words)
        rows = [
            _desk_project(line, newest.get(p.id, []), words[p.id], marks, shares, taken.get(p.id, []))
            for p, line in zip(projects, lines, strict=True)
        ]
        stuck = [StuckCell(c.project, c.run, c.job, c.key, c.reason) for c in stuck_cells(session)]
        approvals = [WaitingApproval(*row) for row in approvals_waiting(session)]
        strangers = [StrangersPull(*row) for row in strangers_waiting(session)]
        budgets = [BudgetNote(b.project, b.said) for b in budgets_nearly_spent(session, projects, datetime.now(UTC))]
        gates = [GateNote(p.name, p.drilled["said"]) for p in projects if p.drilled.get("passed") is False]
        untidy = untidy_now(session, projects)
        return Desk(rows, stuck, approvals, strangers, budgets, gates, untidy, load_of(session))


def untidy_now(session: Session, projects: Sequence[Project]) -> list[Untidy]:
    """Housekeeping that did not end well when it ran last, where the plan on the main branch still has it."""
    by_name, plans, found = {p.name: p for p in projects}, dict[str, Plan | None](), []
    for row in failed_housekeeping(session):
        one = Untidy(*row)
        if one.project not in plans:
            project = by_name[one.project]
            newest = newest_planned_push(session, project.id, project.main_branch)
            plans[one.project] = plan_of_run(session, newest) if newest is not None else None
        plan = plans[one.project]
        job = plan.find(one.job) if plan is not None else None
        if job is not None and job.housekeeping:
            found.append(one)
    return found


def _desk_project(
    line: ProjectLine,
    newest: Sequence[Run],
    words: Mapping[str, Word],
    marks: Mapping[int, list[str]],
    shares: Mapping[tuple[int, str], Totals],
    taken: list[TakenCause],
) -> DeskProject:
    by_commit: dict[str, Run] = {}
    for run in newest:
        by_commit.setdefault(run.commit, run)
    held = list(itertools.takewhile(lambda c: words[c].verdict not in _FINE, by_commit))
    first = next((c for c in reversed(held) if words[c].verdict is Verdict.HELD), None)
    since = None
    if first is not None:
        row = next((r for r in newest if r.number == words[first].number), by_commit[first])
        since = run_line(row, words[first])
    runs = [
        DeskRun(
            r.number,
            r.title,
            words[r.commit].verdict,
            "".join(marks[r.id]),
            _share(r, shares),
            _seconds(r),
        )
        for r in reversed(newest)
    ]
    times = [r.seconds for r in runs if r.seconds is not None]
    return DeskProject(line, since, runs, statistics.median(times) if times else None, taken)


def _share(row: Run, shares: Mapping[tuple[int, str], Totals]) -> float | None:
    return None if is_undecided(row) else fraction_of(shares.get((row.id, "")))


_FINE = (Verdict.CLEAR, Verdict.EXEMPT)


def _seconds(row: Run) -> float | None:
    return row.to_verdict if row.verdict in DECIDED else None
