"""The queue: why a cell waits, and when it is predicted to start."""

from __future__ import annotations

from collections.abc import Collection, Hashable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import Row
from sqlalchemy.orm import Session

from myriant.core.matrix.forecast import USUAL_SECONDS, Slot, Waiting, forecast
from myriant.core.states import OPEN, State
from myriant.core.written import counted
from myriant.flow.compare.supply import Supply, supply
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.store.controls import open_controls
from myriant.store.waiting import (
    plans_of_runs,
    running_rows,
    sums_of_work,
    waiting_rows,
    waiting_rows_of_run,
    waiting_rows_wanting,
    wishes_of_waiting,
)

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
    controls: int  # control runs and tries of searches, which use what is free


@dataclass(frozen=True, slots=True)
class Queue:
    load: Load
    cells: list[Queued]
    more: int


def load_of(session: Session, have: Supply | None = None) -> Load:
    """How much is to be done, from sums by what the cells want: cheap however long the queue is."""
    have = have or supply(session)
    rows = sums_of_work(session)
    slots = sum(r.slots for r in have.runners if not r.drained)
    left = [
        (total, longest)
        for wants, project, state, _, total, longest in rows
        if state == State.RUNNING or not have.refusal(wants, project)
    ]
    done = max(sum(t for t, _ in left) / slots, *(most for _, most in left)) if left and slots else None
    count = {state: sum(n for _, _, s, n, *_ in rows if s == state) for state in OPEN}
    return Load(count[State.RUNNING], count[State.WAITING], done, open_controls(session))


def whole_queue(site: Site, *, most: int = 500) -> Queue:
    """The queue of the whole server as it stands, first turn first."""
    with site.store.view() as session:
        have = supply(session)
        now = load_of(session, have)
        cells = _queued(session, have, waiting_rows(session, MOST_FORECAST))
        return Queue(now, cells[:most], max(0, now.waiting - most))


def queue_of(session: Session, run_id: int) -> dict[int, Queued]:
    """The waiting cells of one run, by cell."""
    return {q.cell: q for q in _queued(session, supply(session), waiting_rows_of_run(session, run_id, MOST_FORECAST))}


def stuck_cells(session: Session) -> list[Queued]:
    """Waiting cells that no runner can take, the first of them."""
    have = supply(session)
    refused = [w for w in wishes_of_waiting(session) if have.refusal(*w)]
    if not refused:
        return []
    rows = waiting_rows_wanting(session, refused, MOST_STUCK)
    return _queued(session, have, rows, predict=False)


def _queued(session: Session, have: Supply, rows: list[Row[Any]], *, predict: bool = True) -> list[Queued]:
    starts = _starts(session, have) if predict and rows else {}
    found = []
    for row in rows:
        refusal = have.refusal(row.wants, row.project_id)
        start = starts.get(row.id)
        found.append(
            Queued(
                row.id,
                row.project,
                row.number,
                row.job,
                row.key,
                refusal or _reason(row, start),
                start,
                row.predicted,
                refusal is not None,
                row.event,
            )
        )
    return found


def _starts(session: Session, have: Supply) -> Mapping[Hashable, float]:
    """Predicted seconds until the start of each of the first cells, by cell."""
    now = datetime.now(UTC)
    busy: dict[str, list[float]] = {}
    ends: dict[Hashable, list[float]] = {}
    waiting: list[Waiting] = []
    rows = [*running_rows(session, MOST_FORECAST), *waiting_rows(session, MOST_FORECAST)]
    after = _awaited(session, {row.run_id for row in rows if not row.ready})
    for row in rows:
        group = (row.run_id, row.job)
        if row.state == State.RUNNING:
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
    for run in plans_of_runs(session, runs):
        plan = plan_of_run(session, run)
        for job in plan.jobs if plan is not None else ():
            if job.after and not job.gated and job.approval is None:
                found[(run.id, job.id)] = tuple((run.id, a.job) for a in job.after)
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
