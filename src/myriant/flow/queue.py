"""The queue: whose turn it is, why a cell waits, and when it is predicted to start.

Turns are given by start-time fair queuing (Goyal, Vin, Cheng 1996): each project has a rank that grows with
what it was served, slower for events that people wait for; so one project's hundred cells do not keep another's
single one waiting. Within a run, cells that told most in the past come first.
"""

from __future__ import annotations

import statistics
from collections.abc import Collection, Hashable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.matrix.forecast import USUAL_SECONDS, Slot, Waiting, forecast
from myriant.core.plan.model import Plan
from myriant.core.plan.versions import version_key
from myriant.flow.plans import plan_of
from myriant.flow.site import Site
from myriant.store.runs import RUNNING, WAITING, runners_in_touch
from myriant.store.tables import Attempt, Cell, Control, Project, Run, Runner

IN_TOUCH = timedelta(seconds=30)
MOST_FORECAST = 3000
_SHARE = {"schedule": 4.0}  # how much more a cell of such an event counts
_PAST = 400  # cells of a job looked back for what they took and told


def give_ranks(session: Session, run: Run, plan: Plan) -> None:
    """Give a run's cells their predicted seconds and their turns in the shared queue."""
    cells = list(session.scalars(select(Cell).where(Cell.run_id == run.id)))
    told, took = _past(session, run, {c.job for c in cells})
    for cell in cells:
        seconds = took.get((cell.job, cell.key)) or took.get((cell.job, None))
        cell.predicted = statistics.median(seconds) if seconds else None
    chain = _awaited(plan, {c.job: c.predicted or USUAL_SECONDS for c in cells})
    cells.sort(
        key=lambda c: (
            c.gated, c.advisory, -told.get((c.job, c.key), 0), -chain.get(c.job, 0.0), -(c.predicted or 0.0), c.position
        )
    )  # fmt: skip
    project = session.get_one(Project, run.project_id, with_for_update=True)  # plans may be read side by side
    rank = max(_served_now(session, run.id), project.served)
    for cell in cells:
        if cell.selected:
            rank += (cell.predicted or USUAL_SECONDS) * _SHARE.get(run.event, 1.0)
            cell.rank = rank
    project.served = rank


def _served_now(session: Session, but: int = 0) -> float:
    """The rank at which the queue stands: of what started last, else of what is first, without the run `but`."""
    others = Cell.run_id != but
    running = session.scalar(select(func.max(Cell.rank)).where(Cell.state == RUNNING, others))
    if running is not None:
        return running
    waiting = session.scalar(select(func.min(Cell.rank)).where(Cell.state == WAITING, Cell.ready, others))
    if waiting is not None:
        return waiting
    return session.scalar(select(func.max(Project.served))) or 0.0


def queue_front(session: Session) -> float:
    """A rank before everything that waits: a person asked for it just now."""
    least = session.scalar(select(func.min(Cell.rank)).where(Cell.state == WAITING, Cell.ready))
    return min(least, _served_now(session)) - 1.0 if least is not None else _served_now(session)


def _past(
    session: Session, run: Run, jobs: Collection[str]
) -> tuple[dict[tuple[str, str], int], dict[tuple[str, str | None], list[float]]]:
    """By job and key: how often a cell newly failed of late, and the seconds it took when it could be trusted."""
    told: dict[tuple[str, str], int] = {}
    took: dict[tuple[str, str | None], list[float]] = {}
    for job in sorted(jobs):
        rows = session.execute(
            select(Cell.key, Cell.mark, Cell.reused, Attempt.created_at, Attempt.ended_at)
            .join(Run, Run.id == Cell.run_id)
            .join(Attempt, Attempt.id == Cell.attempt_id)
            .where(Run.project_id == run.project_id, Cell.job == job, Run.id < run.id)
            .where(Cell.state.in_(("passed", "failed")))
            .order_by(Cell.id.desc())
            .limit(_PAST)
        )
        for key, mark, reused, began, ended in rows:
            told[(job, key)] = told.get((job, key), 0) + (mark in ("new", "first"))
            if reused is None and ended is not None:
                seconds = (ended - began).total_seconds()
                for name in ((job, key), (job, None)):
                    known = took.setdefault(name, [])
                    if len(known) < 10:
                        known.append(seconds)
    return told, took


def _awaited(plan: Plan, seconds: dict[str, float]) -> dict[str, float]:
    """By job, the seconds of the longest chain of jobs that wait for it."""
    found: dict[str, float] = {}

    def of(job: str) -> float:
        if job not in found:
            found[job] = 0.0  # a cycle was refused when the plan was read
            behind = [j.id for j in plan.jobs if any(a.job == job for a in j.after)]
            found[job] = max((of(j) + seconds.get(j, 0.0) for j in behind), default=0.0)
        return found[job]

    for job in plan.jobs:
        of(job.id)
    return found


@dataclass(frozen=True, slots=True)
class Offer:
    """What one runner in touch offers, and why it is given nothing when it is drained."""

    name: str
    offers: frozenset[str]
    slots: int
    drained: str = ""


@dataclass(frozen=True, slots=True)
class Supply:
    """All that could take a cell now."""

    runners: list[Offer]
    runtimes: set[tuple[str, str]]  # families and versions that any runner ever had

    def refusal(self, wants: Collection[str]) -> str | None:
        """Why no runner can take a cell with these wishes, and who could supply what is missing; None when one can."""
        wanted = set(wants)
        fitting = [r for r in self.runners if wanted <= r.offers]
        if any(not r.drained for r in fitting):
            return None
        if fitting:
            names = ", ".join(r.name for r in fitting[:3])
            return f"every runner that could take it is drained ({names}): {fitting[0].drained}"
        if not self.runners:
            return "no runner is in touch; start one: myriant runner"
        missing = sorted(wanted - set().union(*(r.offers for r in self.runners)))
        if not missing:
            return f"no single runner offers {' and '.join(sorted(wanted))}"
        if missing[0].startswith("label "):
            return f"no runner has the label {missing[0].removeprefix('label ')}"
        family = missing[0].split(" ")[0]
        known = sorted({version for f, version in self.runtimes if f == family}, key=version_key)
        have = f"runners have {family} {', '.join(known)}" if known else f"no runner has any {family}"
        mend = f"install it on {self.runners[0].name} or register it there"
        return f"no runner offers {' or '.join(missing)}; {have}; {mend}"


def supply(session: Session) -> Supply:
    found = runners_in_touch(session, datetime.now(UTC) - IN_TOUCH)
    runtimes = {(r["family"], r["version"]) for rows in session.scalars(select(Runner.runtimes)) for r in rows}
    return Supply([Offer(r.name, frozenset(r.offers), r.slots, r.drained) for r in found], runtimes)


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
class Queue:
    running: int
    waiting: int
    done_in: float | None  # seconds until nothing runs or waits any more
    cells: list[Queued]
    more: int


def queue(site: Site, *, most: int = 500) -> Queue:
    """The queue of the whole server as it stands, first turn first."""
    with site.store.transaction() as session:
        return queue_in(session, most=most)


def queue_in(session: Session, *, most: int = 500, run_id: int | None = None) -> Queue:
    now = datetime.now(UTC)
    have = supply(session)
    rows = session.execute(
        select(Cell, Run.number, Run.event, Run.plan, Project.name, Attempt.created_at, Attempt.runner)
        .join(Run, Run.id == Cell.run_id)
        .join(Project, Project.id == Run.project_id)
        .outerjoin(Attempt, (Attempt.id == Cell.attempt_id) & (Cell.state == "running"))
        .where(Cell.state.in_(("running", "waiting")))
        .order_by(Cell.ready.desc(), Cell.rank, Cell.id)
        .limit(MOST_FORECAST)
    ).all()
    counts = dict(
        session.execute(
            select(Cell.state, func.count()).where(Cell.state.in_(("running", "waiting"))).group_by(Cell.state)
        )
        .tuples()
        .all()
    )
    busy: dict[str, list[float]] = {}
    ends: dict[Hashable, list[float]] = {}
    waiting: list[Waiting] = []
    for cell, _, _, text, _, began, runner in rows:
        group = (cell.run_id, cell.job)
        if cell.state == "running":
            gone = (now - began).total_seconds() if began is not None else 0.0
            left = max(1.0, (cell.predicted or USUAL_SECONDS) - gone)
            busy.setdefault(runner or "", []).append(left)
            ends.setdefault(group, []).append(left)
            continue
        plan = plan_of(text)
        job = next((j for j in plan.jobs if j.id == cell.job), None) if plan is not None else None
        after = tuple((cell.run_id, a.job) for a in job.after) if job is not None and not cell.ready else ()
        if cell.ready or after:
            waiting.append(Waiting(cell.id, cell.wants, cell.predicted, group, after, cell.at_once))
    slots = [
        Slot(free, runner.offers)
        for runner in have.runners
        if not runner.drained
        for free in (busy.get(runner.name, []) + [0.0] * runner.slots)[: runner.slots]
    ]
    starts = forecast(slots, waiting, ends)
    queued = []
    for cell, number, event, _, project, *_ in rows:
        if cell.state != "waiting" or (run_id is not None and cell.run_id != run_id):
            continue
        refusal = have.refusal(cell.wants)
        start = starts.get(cell.id)
        queued.append(
            Queued(
                cell.id, project, number, cell.job, cell.key, refusal or _reason(cell, start), start, cell.predicted,
                refusal is not None, event,
            )
        )  # fmt: skip
    lasting = {w.name: w.seconds if w.seconds is not None else USUAL_SECONDS for w in waiting}
    done = max(
        [*(s + lasting[n] for n, s in starts.items()), *(e for each in ends.values() for e in each)], default=None
    )
    left_out = max(0, counts.get("waiting", 0) - len(queued)) if run_id is None else 0
    shown = queued[:most]
    return Queue(counts.get("running", 0), counts.get("waiting", 0), done, shown, left_out + len(queued) - len(shown))


def _reason(cell: Cell, start: float | None) -> str:
    if not cell.ready:
        return cell.reason
    if start is not None and start < 1.0:
        said = "it starts now"
    elif cell.at_once is not None:
        said = f"at most {cell.at_once} of {cell.job} at once"
    else:
        said = "every slot that could take it is busy" if start else "waiting for a free slot"
    return f"{cell.reason}; {said}" if cell.reason else said


def waiting_controls(session: Session) -> Sequence[Control]:
    """Control runs that could start, oldest first, locked for this transaction."""
    return session.scalars(
        select(Control).where(Control.state == WAITING).order_by(Control.id).limit(4).with_for_update(skip_locked=True)
    ).all()
