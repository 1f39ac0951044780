"""Evidence of one attempt: what the runner told beside the steps, what it was made of, and how two attempts differ."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import select

from myriant.core.plan.model import Plan
from myriant.flow.errors import NotFound
from myriant.flow.plans import plan_of
from myriant.flow.site import Site
from myriant.store.runs import cells_of
from myriant.store.tables import Attempt, AttemptRecord, CacheEntry, Cell, Project, Run, Step


@dataclass(frozen=True, slots=True)
class PhaseView:
    name: str
    started_at: datetime
    ended_at: datetime | None


@dataclass(frozen=True, slots=True)
class PlaceView:
    file: str
    line: int
    value: str
    differs: bool


@dataclass(frozen=True, slots=True)
class OverrodeView:
    origin: str
    value: str


@dataclass(frozen=True, slots=True)
class SettingView:
    """A variable: its value in force, where it came from, what that overrode, files that set the same name."""

    name: str
    value: str
    origin: str
    step: str  # the only step that sees it so, empty for all
    overrode: list[OverrodeView]
    files: list[PlaceView]


@dataclass(frozen=True, slots=True)
class CacheView:
    name: str
    found: bool
    said: str
    seconds: float
    size: int
    saved: int
    won: float | None  # seconds, negative when unpacking cost more than it won


@dataclass(frozen=True, slots=True)
class RecordView:
    attempt: int
    phases: list[PhaseView]
    settings: list[SettingView]
    machine: dict[str, dict[str, str]]
    caches: list[CacheView]


@dataclass(frozen=True, slots=True)
class Differing:
    """A part of the machine that differs; empty where one side has none."""

    section: str
    name: str
    here: str
    there: str


@dataclass(frozen=True, slots=True)
class MachineDifference:
    attempt: int
    other: int
    said: str  # which attempt the other is
    differing: list[Differing]
    same: int


@dataclass(frozen=True, slots=True)
class CacheLine:
    """A cache that is kept."""

    id: int
    name: str
    job: str
    scope: str
    size: int
    uses: int
    created_at: datetime
    used_at: datetime
    runtimes: dict[str, str]


def record(site: Site, attempt_id: int) -> RecordView:
    with site.store.transaction() as session:
        if session.get(Attempt, attempt_id) is None:
            raise NotFound(f"there is no attempt {attempt_id}")
        rows = session.execute(
            select(AttemptRecord.kind, AttemptRecord.content).where(AttemptRecord.attempt_id == attempt_id)
        )
        told: dict[str, Any] = dict(rows.tuples().all())
    return RecordView(
        attempt_id,
        [p for row in _rows(told.get("phases")) if (p := _phase(row)) is not None],
        [_setting(s) for s in _rows(told.get("settings"))],
        _machine(told.get("machine")),
        [
            CacheView(
                str(c.get("name")), bool(c.get("found")), str(c.get("said", "")), float(c.get("seconds", 0.0)),
                int(c.get("bytes", 0)), int(c.get("saved", 0)), c.get("won"),
            )
            for c in _rows(told.get("caches"))
        ],
    )  # fmt: skip


def _rows(content: Any) -> list[dict[str, Any]]:
    """What a runner told as a list of objects; anything else is nothing."""
    return [row for row in content if isinstance(row, dict)] if isinstance(content, list) else []


def _phase(row: dict[str, Any]) -> PhaseView | None:
    try:
        ended = row.get("ended_at")
        return PhaseView(
            str(row["name"]),
            datetime.fromisoformat(row["started_at"]),
            datetime.fromisoformat(ended) if ended else None,
        )
    except (KeyError, TypeError, ValueError):
        return None


def _setting(row: dict[str, Any]) -> SettingView:
    return SettingView(
        str(row.get("name")), str(row.get("value")), str(row.get("origin")), str(row.get("step", "")),
        [OverrodeView(str(o), str(v)) for o, v in row.get("overrode", ())],
        [PlaceView(str(f["file"]), int(f["line"]), str(f["value"]), bool(f["differs"])) for f in row.get("files", ())],
    )  # fmt: skip


def _machine(content: Any) -> dict[str, dict[str, str]]:
    sections = content if isinstance(content, dict) else {}
    return {
        str(s): {str(k): str(v) for k, v in values.items()}
        for s, values in sections.items()
        if isinstance(values, dict)
    }


def machine_difference(site: Site, attempt_id: int, other: int | None) -> MachineDifference | None:
    """What differs between two attempts' machines; by default the other is the cell's newest passing one before.

    None when there is no such one, or one of the two has told nothing of its machine. Raises NotFound.
    """
    with site.store.transaction() as session:
        attempt = session.get(Attempt, attempt_id)
        if attempt is None:
            raise NotFound(f"there is no attempt {attempt_id}")
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        query = (
            select(Attempt.id, Run.number, Cell.job, Cell.key, Attempt.number, Attempt.runner, Project.name)
            .join(Cell, Cell.id == Attempt.cell_id)
            .join(Run, Run.id == Cell.run_id)
            .join(Project, Project.id == Run.project_id)
        )
        if other is not None:
            query = query.where(Attempt.id == other)
        else:
            query = query.where(
                Run.project_id == run.project_id, Cell.job == cell.job, Cell.key == cell.key,
                Attempt.state == "passed", Attempt.id < attempt_id, Attempt.id.in_(
                    select(AttemptRecord.attempt_id).where(AttemptRecord.kind == "machine")
                ),
            )  # fmt: skip
        found = session.execute(query.order_by(Attempt.id.desc()).limit(1)).first()
    if found is None:
        if other is not None:
            raise NotFound(f"there is no attempt {other}", "give the number of one that the server knows")
        return None
    here, there = record(site, attempt_id).machine, record(site, found[0]).machine
    if not here or not there:
        return None
    differing, same = differences(here, there)
    said = f"{found[6]} #{found[1]}, {found[2]} {found[3]}, attempt {found[4]} on {found[5]}"
    return MachineDifference(attempt_id, found[0], said, differing, same)


def differences(here: dict[str, dict[str, str]], there: dict[str, dict[str, str]]) -> tuple[list[Differing], int]:
    """What differs between two machine records, and how many values are the same."""
    differing, same = [], 0
    for section in dict.fromkeys([*here, *there]):
        mine, other = here.get(section, {}), there.get(section, {})
        for name in dict.fromkeys([*mine, *other]):
            if mine.get(name) == other.get(name):
                same += 1
            else:
                differing.append(Differing(section, name, mine.get(name, ""), other.get(name, "")))
    return differing, same


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
    with site.store.transaction() as session:
        run = session.scalar(
            select(Run).join(Project, Project.id == Run.project_id)
            .where(Project.name == project_name, Run.number == number)
        )  # fmt: skip
        if run is None:
            raise NotFound(f"{project_name} has no run #{number}")
        cells = [c for c in cells_of(session, run.id) if c.selected]
        mine = session.scalars(
            select(Attempt).where(Attempt.cell_id.in_([c.id for c in cells]), Attempt.number > 0).order_by(Attempt.id)
        ).all()
        ids = [a.id for a in mine]
        told = {
            (a, kind): content
            for a, kind, content in session.execute(
                select(AttemptRecord.attempt_id, AttemptRecord.kind, AttemptRecord.content).where(
                    AttemptRecord.attempt_id.in_(ids), AttemptRecord.kind.in_(("phases", "caches"))
                )
            )
        }
        steps: dict[int, list[Step]] = {}
        for step in session.scalars(select(Step).where(Step.attempt_id.in_(ids)).order_by(Step.position)):
            steps.setdefault(step.attempt_id, []).append(step)
        plan = plan_of(run.plan)
    rows = []
    for cell in cells:
        bars: list[Bar] = []
        since, last = run.created_at, None
        for attempt in [a for a in mine if a.cell_id == cell.id]:
            bars.append(Bar("waiting", "waiting", "", since, attempt.created_at))
            phases = [p for row in _rows(told.get((attempt.id, "phases"))) if (p := _phase(row)) is not None]
            bars += [Bar("phase", p.name, "", p.started_at, p.ended_at) for p in phases]
            bars += [
                Bar("step", s.name, s.state, s.started_at, s.ended_at)
                for s in steps.get(attempt.id, ())
                if s.started_at is not None
            ]
            since, last = attempt.ended_at or attempt.created_at, attempt
        if cell.state == "waiting":
            bars.append(Bar("waiting", cell.reason or "waiting", "", since, None))
        expected = None
        if last is not None and cell.predicted is not None:
            expected = last.created_at + timedelta(seconds=cell.predicted)
        won = [c["won"] for c in _rows(told.get((last.id if last else 0, "caches"))) if c.get("won") is not None]
        rows.append(
            TimelineRow(
                cell.job, cell.key, cell.mark, last.id if last else None, last.runner if last else "", bars, expected,
                False, sum(won) if won else None,
            )
        )  # fmt: skip
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


def caches_of(site: Site, project_name: str) -> list[CacheLine]:
    """The caches that a project keeps, the latest used first."""
    with site.store.transaction() as session:
        rows = session.scalars(
            select(CacheEntry)
            .join(Project, Project.id == CacheEntry.project_id)
            .where(Project.name == project_name, CacheEntry.kept)
            .order_by(CacheEntry.used_at.desc())
            .limit(500)
        )
        return [
            CacheLine(
                e.id, e.name, e.job, e.scope, e.size, e.uses, e.created_at, e.used_at, e.parts.get("runtimes", {})
            )
            for e in rows
        ]  # fmt: skip


def forget_caches(site: Site, project_name: str, entry: int | None) -> int:
    """Forget one cache of a project, or all; how many."""
    with site.store.transaction() as session:
        query = (
            select(CacheEntry).join(Project, Project.id == CacheEntry.project_id).where(Project.name == project_name)
        )
        found = session.scalars(query.where(CacheEntry.id == entry) if entry is not None else query).all()
        for each in found:
            session.delete(each)
    for each in found:
        site.blobs.remove(each.blob)
    return len(found)
