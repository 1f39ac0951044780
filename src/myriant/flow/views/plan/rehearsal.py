"""A rehearsal: what an event would run under a plan, and what it would take."""

from __future__ import annotations

import statistics
from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy.orm import Session

from myriant.core.matrix.expand import Cell as PlannedCell
from myriant.core.matrix.expand import combinations, dropped_cells
from myriant.core.plan.intent import Earlier, Event, Fate, Intent, JobIntent, intent, order
from myriant.core.plan.keys import EVENTS
from myriant.core.plan.model import Plan
from myriant.core.plan.selectors import SelectorError, parse_selector
from myriant.core.states import EventKind
from myriant.core.written import counted, duration
from myriant.flow.errors import BadInput
from myriant.flow.views.plan.problems import BlindView
from myriant.store.cells import earlier_sample, seconds_of_cells
from myriant.store.runners import runners_in_touch
from myriant.store.tables import Project, Runner

_USUAL_SECONDS = 30.0  # of a cell that never ran


_MOST_SHOWN = 4096


@dataclass(frozen=True, slots=True)
class CellMeaning:
    """A cell of a job: whether it is dropped, added, sampled or advisory, and who can serve it."""

    key: str
    values: dict[str, str]
    state: str  # selected, unselected, dropped
    added: bool
    advisory: bool
    runners: list[str]
    lacks: str  # why no runner can serve it
    seconds: float | None  # predicted, from earlier attempts
    wants: list[str]


@dataclass(frozen=True, slots=True)
class JobMeaning:
    job: str
    title: str
    line: int
    runs: bool
    reason: str
    because: str
    after: list[str]
    gated: bool
    housekeeping: bool
    dimensions: dict[str, list[str]]
    combinations: int
    cells: list[CellMeaning]
    blind: BlindView | None
    steps: list[str]


@dataclass(frozen=True, slots=True)
class Forecast:
    """What an event would take: minutes of machines, time to the verdict, price; None: nothing is known of it."""

    cells: int
    minutes: float
    seconds: float
    known: int  # cells whose time is known from earlier attempts
    price: float | None


@dataclass(frozen=True, slots=True)
class Rehearsal:
    event: str
    reason: str  # why nothing runs, empty when something does
    sentence: str
    order: list[list[str]]
    jobs: list[JobMeaning]
    forecast: Forecast


@dataclass(frozen=True, slots=True)
class WantedEvent:
    """An event to rehearse."""

    kind: str = "push"
    branch: str = ""
    source: str = ""
    tag: str = ""
    schedule: str = ""
    changed: list[str] | None = None
    jobs: list[str] | None = None
    cells: str = ""


def event_wanted(wanted: WantedEvent) -> Event:
    if wanted.kind not in EVENTS:
        raise BadInput(f"there is no event {wanted.kind[:80]}", f"events: {', '.join(EVENTS)}")
    try:
        cells = parse_selector(wanted.cells) if wanted.cells else None
    except SelectorError as error:
        raise BadInput(str(error), "write for example python<=3.9") from error
    branch = "" if wanted.kind == EventKind.TAG else wanted.branch
    changed = tuple(wanted.changed) if wanted.changed else None
    jobs = tuple(wanted.jobs or ()) if wanted.kind == EventKind.MANUAL else ()
    return Event(wanted.kind, branch, wanted.source, wanted.tag, wanted.schedule, changed, jobs, cells)


def rehearsed(session: Session, project: Project, plan: Plan, event: Event) -> Rehearsal:
    earlier = Earlier(
        {
            job.id: earlier_sample(session, project.id, event.branch or project.main_branch, job.id)
            for job in plan.jobs
            if job.sample
        }
    )
    found = intent(plan, event, earlier)
    times = _times(session, project, [j.job.id for j in found.jobs])
    runners = [r for r in runners_in_touch(session) if r.projects is None or project.id in r.projects]
    jobs = [_job(found, j, times, runners) for j in found.jobs]
    ranks = order(plan)
    forecast = _forecast(jobs if not found.reason else [], ranks, runners)
    return Rehearsal(
        str(event),
        found.reason or (_excuse(found) if found.excused else ""),
        _sentence(found, forecast),
        ranks,
        jobs,
        forecast,
    )


def _times(session: Session, project: Project, jobs: Sequence[str]) -> dict[tuple[str, str], float]:
    """The median seconds of each cell over the newest runs; the empty key is the job's."""
    rows = seconds_of_cells(session, project.id, jobs, 20)
    by_cell: dict[tuple[str, str], list[float]] = {}
    for job, key, seconds in rows:
        if seconds is not None:
            by_cell.setdefault((job, key), []).append(float(seconds))
            by_cell.setdefault((job, ""), []).append(float(seconds))
    return {name: statistics.median(seconds) for name, seconds in by_cell.items()}


def _job(found: Intent, j: JobIntent, times: dict[tuple[str, str], float], runners: Sequence[Runner]) -> JobMeaning:
    job = j.job
    cells = [_cell(c, times, runners) for c in j.cells[:_MOST_SHOWN]]
    if not found.reason:
        cells += [
            CellMeaning(_key(values), values, "dropped", False, False, [], "", None, [])
            for values in dropped_cells(job)[: _MOST_SHOWN - len(cells)]
        ]
    blind = BlindView(j.blind.size, j.blind.missed, j.blind.possible, list(j.examples)) if j.blind else None
    return JobMeaning(
        job.id,
        job.title,
        job.line,
        j.runs and not found.reason,
        j.reason,
        j.because,
        [a.job for a in job.after],
        job.gated,
        job.housekeeping,
        {d: list(v) for d, v in job.vary.items()},
        combinations(job),
        cells,
        blind,
        [s.name for s in job.steps],
    )


def _key(values: dict[str, str]) -> str:
    return ",".join(f"{k}={v}" for k, v in values.items())


def _cell(cell: PlannedCell, times: dict[tuple[str, str], float], runners: Sequence[Runner]) -> CellMeaning:
    able = [r.name for r in runners if set(cell.wants) <= set(r.offers)]
    lacks = ""
    if not able:
        missing = sorted(set(cell.wants) - {o for r in runners for o in r.offers})
        lacks = f"no runner offers {' and '.join(missing)}" if missing else "no single runner offers all of it"
        lacks = lacks if runners else "no runner is in touch"
    return CellMeaning(
        cell.key,
        cell.values,
        "selected" if cell.selected else "unselected",
        cell.added,
        cell.advisory,
        able,
        lacks,
        times.get((cell.job, cell.key), times.get((cell.job, ""))),
        list(cell.wants),
    )


def _forecast(jobs: Sequence[JobMeaning], ranks: list[list[str]], runners: Sequence[Runner]) -> Forecast:
    slots = max(1, sum(r.slots for r in runners))
    prices = [r.price for r in runners if r.price > 0]
    total = elapsed = 0.0
    count = known = 0
    by_id = {j.job: j for j in jobs if j.runs}
    for rank in ranks:
        seconds: list[float] = []
        binding: list[float] = []  # what the verdict waits for
        for job in (by_id[i] for i in rank if i in by_id):
            chosen = [c for c in job.cells if c.state == "selected"]
            mine = [c.seconds if c.seconds is not None else _USUAL_SECONDS for c in chosen]
            seconds += mine
            binding += [] if job.gated else mine
            known += sum(c.seconds is not None for c in chosen)
        count += len(seconds)
        total += sum(seconds)
        elapsed += _side_by_side(binding, slots)
    price = total / 60 * min(prices) if prices else None
    return Forecast(count, total / 60, elapsed, known, price)


def _side_by_side(seconds: Sequence[float], slots: int) -> float:
    """The time that cells take on so many slots, the longest first."""
    busy = [0.0] * min(slots, max(1, len(seconds)))
    for s in sorted(seconds, reverse=True):
        first = busy.index(min(busy))
        busy[first] += s
    return max(busy)


def _excuse(found: Intent) -> str:
    return "; ".join(dict.fromkeys(j.reason for j in found.jobs if j.fate is Fate.EXCUSED))


def _sentence(found: Intent, forecast: Forecast) -> str:
    event = str(found.event)
    begin = event[:1].upper() + event[1:]
    if found.reason:
        return f"{begin}: nothing runs, because {found.reason}."
    if found.excused:
        return f"{begin}: nothing has to run, because {_excuse(found)}; what its jobs have said before stands."
    jobs = [j for j in found.jobs if j.runs]
    unselected = sum(len(j.cells) - j.selected for j in jobs)
    more = f", {unselected} not selected" if unselected else ""
    guess = "about " if forecast.known else "perhaps "
    return (
        f"{begin} runs {counted(forecast.cells, 'cell')} of {counted(len(jobs), 'job')}{more}; {guess}"
        f"{duration(forecast.seconds)} to the verdict, {duration(forecast.minutes * 60)} of machine time."
    )
