"""The timeline of a run: bars of its attempts' phases, and what was critical."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

from myriant.core.plan.model import Plan
from myriant.core.states import State
from myriant.flow.diagnose.record import phase_of, rows_of
from myriant.flow.naming import the_project, the_run
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.store.attempts import own_attempts_of, records_of, steps_of_attempts
from myriant.store.cells import cells_of


@dataclass(frozen=True, slots=True)
class Bar:
    """A stretch of a cell's time: waiting, a phase of the runner, or a step."""

    kind: str  # waiting, phase, step, reading
    name: str
    state: str
    started_at: datetime
    ended_at: datetime | None


@dataclass(frozen=True, slots=True)
class TimelineRow:
    job: str
    key: str
    mark: str
    attempt: int | None
    runner: str
    bars: list[Bar]
    predicted_end: datetime | None
    critical: bool  # the run could not end before it
    won: float | None  # seconds that caches won


@dataclass(frozen=True, slots=True)
class Timeline:
    started_at: datetime
    ended_at: datetime | None
    rows: list[TimelineRow]


def timeline(site: Site, project_name: str, number: int) -> Timeline:
    """What each cell of a run did when."""
    with site.store.view() as session:
        run = the_run(session, the_project(session, project_name), number)
        cells = [c for c in cells_of(session, run.id) if c.selected]
        mine = own_attempts_of(session, cells)
        ids = [a.id for a in mine]
        told = records_of(session, ids, ("phases", "caches"))
        steps = steps_of_attempts(session, ids)
        plan = plan_of_run(session, run)
    rows = []
    for cell in cells:
        bars: list[Bar] = []
        since, last = run.created_at, None
        for attempt in [a for a in mine if a.cell_id == cell.id]:
            bars.append(Bar("waiting", "waiting", "", since, attempt.created_at))
            phases = [p for row in rows_of(told.get((attempt.id, "phases"))) if (p := phase_of(row)) is not None]
            bars += [Bar("phase", p.name, "", p.started_at, p.ended_at) for p in phases]
            bars += [
                Bar("step", s.name, s.state, s.started_at, s.ended_at)
                for s in steps.get(attempt.id, ())
                if s.started_at is not None
            ]
            since, last = attempt.ended_at or attempt.created_at, attempt
        if cell.state == State.WAITING:
            bars.append(Bar("waiting", cell.reason or "waiting", "", since, None))
        expected = None
        if last is not None and cell.predicted is not None:
            expected = last.created_at + timedelta(seconds=cell.predicted)
        won = [c["won"] for c in rows_of(told.get((last.id if last else 0, "caches"))) if c.get("won") is not None]
        rows.append(
            TimelineRow(
                cell.job,
                cell.key,
                cell.mark,
                last.id if last else None,
                last.runner if last else "",
                bars,
                expected,
                False,
                sum(won) if won else None,
            )
        )
    return Timeline(run.created_at, run.ended_at, _with_critical(rows, plan))


def _with_critical(rows: list[TimelineRow], plan: Plan | None) -> list[TimelineRow]:
    """Mark the cells on the critical path: the one that ended last, and back along what each waited for."""

    def end(row: TimelineRow) -> datetime:
        return max((b.ended_at or b.started_at for b in row.bars), default=datetime.min.replace(tzinfo=UTC))

    done = [r for r in rows if r.attempt is not None]
    critical: set[tuple[str, str]] = set()
    last = max(done, key=end, default=None)
    while last is not None and (last.job, last.key) not in critical:
        critical.add((last.job, last.key))
        job = next((j for j in plan.jobs if j.id == last.job), None) if plan is not None else None
        awaited = {a.job for a in job.after} if job is not None else set()
        last = max((r for r in done if r.job in awaited), key=end, default=None)
    return [replace(r, critical=(r.job, r.key) in critical) for r in rows]
