"""The queue: why a cell waits, and when it is predicted to start."""

from __future__ import annotations

from collections.abc import Collection, Hashable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Row, func, or_, select
from sqlalchemy.orm import Session

from myriant.core.matrix.forecast import USUAL_SECONDS, Slot, Waiting, forecast
from myriant.core.written import counted
from myriant.flow.dispatch.supply import Supply, supply
from myriant.flow.plans import plan_of
from myriant.flow.site import Site
from myriant.store.runs import OPEN, RUNNING, WAITING
from myriant.store.tables import Attempt, Cell, Project, Run

MOST_FORECAST = 2000  # cells whose start is predicted, in the order of turns


MOST_STUCK = 200


@dataclass(frozen=True, slots=True)
class Queued:
    """A waiting cell: why it waits, and in how many seconds it is predicted to start (None: nobody can say)."""

    cell: int
    project: str
    run: int
    job: str
    key: str
    reason: str
    starts_in: float | None
    seconds: float | None  # predicted to take
    stuck: bool
    event: str


@dataclass(frozen=True, slots=True)
class Load:
    """What runs and waits on the whole server; `done_in` seconds nothing of it is left that can run at all."""

    running: int
    waiting: int
    done_in: float | None


@dataclass(frozen=True, slots=True)
class Queue:
    load: Load
    cells: list[Queued]
    more: int


def load_of(session: Session, have: Supply | None = None) -> Load:
    """How much is to be done, from sums by what the cells want: cheap however long the queue is."""
    have = have or supply(session)
    seconds = func.coalesce(Cell.predicted, USUAL_SECONDS)
    rows = session.execute(
        select(Cell.wants, Cell.state, func.count(), func.sum(seconds), func.max(seconds))
        .where(Cell.state.in_(OPEN))
        .group_by(Cell.wants, Cell.state)
    ).all()
    slots = sum(r.slots for r in have.runners if not r.drained)
    left = [
        (total, longest) for wants, state, _, total, longest in rows if state == "running" or not have.refusal(wants)
    ]
    done = max(sum(t for t, _ in left) / slots, *(most for _, most in left)) if left and slots else None
    count = {state: sum(n for _, s, n, *_ in rows if s == state) for state in OPEN}
    return Load(count["running"], count["waiting"], done)


def whole_queue(site: Site, *, most: int = 500) -> Queue:
    """The queue of the whole server as it stands, first turn first."""
    with site.store.transaction() as session:
        have = supply(session)
        now = load_of(session, have)
        cells = _queued(session, have, [row for row in _open_rows(session) if row.state == "waiting"])
        return Queue(now, cells[:most], max(0, now.waiting - most))


def queue_of(session: Session, run_id: int) -> dict[int, Queued]:
    """The waiting cells of one run, by cell."""
    return {q.cell: q for q in _queued(session, supply(session), _rows(session, Cell.run_id == run_id, WAITING))}


def stuck_cells(session: Session) -> list[Queued]:
    """Waiting cells that no runner can take, the first of them."""
    have = supply(session)
    every = session.scalars(select(Cell.wants).where(Cell.state == WAITING).distinct())
    refused = [wants for wants in every if have.refusal(wants)]
    if not refused:
        return []
    rows = _rows(session, or_(*(Cell.wants == wants for wants in refused)), WAITING)
    return _queued(session, have, rows[:MOST_STUCK], predict=False)


def _rows(session: Session, *conditions: Any) -> list[Row[Any]]:
    *where, state = conditions
    return list(
        session.execute(
            select(
                Cell.id, Cell.run_id, Cell.job, Cell.key, Cell.wants, Cell.state, Cell.ready, Cell.reason,
                Cell.predicted, Cell.at_once, Run.number, Run.event, Project.name.label("project"),
                Attempt.created_at.label("began"), Attempt.runner,
            )
            .join(Run, Run.id == Cell.run_id)
            .join(Project, Project.id == Run.project_id)
            .outerjoin(Attempt, (Attempt.id == Cell.attempt_id) & (Cell.state == RUNNING))
            .where(Cell.state == state, *where)
            .order_by(Cell.ready.desc(), Cell.rank, Cell.id)
            .limit(MOST_FORECAST)
        )
    )  # fmt: skip


def _open_rows(session: Session) -> list[Row[Any]]:
    return [*_rows(session, RUNNING), *_rows(session, WAITING)]


def _queued(session: Session, have: Supply, rows: list[Row[Any]], *, predict: bool = True) -> list[Queued]:
    starts = _starts(session, have) if predict and rows else {}
    found = []
    for row in rows:
        refusal = have.refusal(row.wants)
        start = starts.get(row.id)
        found.append(
            Queued(
                row.id, row.project, row.number, row.job, row.key, refusal or _reason(row, start), start, row.predicted,
                refusal is not None, row.event,
            )
        )  # fmt: skip
    return found


def _starts(session: Session, have: Supply) -> Mapping[Hashable, float]:
    """Predicted seconds until the start of each of the first cells, by cell."""
    now = datetime.now(UTC)
    busy: dict[str, list[float]] = {}
    ends: dict[Hashable, list[float]] = {}
    waiting: list[Waiting] = []
    rows = _open_rows(session)
    after = _awaited(session, {row.run_id for row in rows if not row.ready})
    for row in rows:
        group = (row.run_id, row.job)
        if row.state == "running":
            gone = (now - row.began).total_seconds() if row.began is not None else 0.0
            left = max(1.0, (row.predicted or USUAL_SECONDS) - gone)
            busy.setdefault(row.runner or "", []).append(left)
            ends.setdefault(group, []).append(left)
        elif row.ready or group in after:
            behind = () if row.ready else after[group]
            waiting.append(Waiting(row.id, row.wants, row.predicted, group, behind, row.at_once))
    slots = [
        Slot(free, runner.offers)
        for runner in have.runners
        if not runner.drained
        for free in (busy.get(runner.name, []) + [0.0] * runner.slots)[: runner.slots]
    ]
    return forecast(slots, waiting, ends)


def _awaited(session: Session, runs: Collection[int]) -> dict[Hashable, tuple[Hashable, ...]]:
    """By run and job, the run's jobs that it waits for; jobs that wait for something else are left out."""
    found: dict[Hashable, tuple[Hashable, ...]] = {}
    for run_id, text in session.execute(select(Run.id, Run.plan).where(Run.id.in_(runs))) if runs else ():
        plan = plan_of(text)
        for job in plan.jobs if plan is not None else ():
            if job.after and not job.gated and job.approval is None:
                found[(run_id, job.id)] = tuple((run_id, a.job) for a in job.after)
    return found


def _reason(row: Row[Any], start: float | None) -> str:
    if not row.ready:
        return str(row.reason)
    if start is None:
        said = f"more than {counted(MOST_FORECAST, 'cell')} are before it"
    elif start < 1.0:
        said = "it starts now"
    elif row.at_once is not None:
        said = f"at most {row.at_once} of {row.job} at once"
    else:
        said = "every slot that could take it is busy"
    return f"{row.reason}; {said}" if row.reason else said
