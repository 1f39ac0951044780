"""Questions about what lies behind the verdict: releases, what they made, and what is live."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import Session

from myriant.core.states import Content, EventKind, State, Verdict, Why
from myriant.store.tables import Attempt, Cell, Project, Report, Run


def released_beside(session: Session, run: Run, job: str) -> int:
    """The number of another run of the project whose job behind the verdict runs or may start, 0 without one. Nobody
    else is told that there is none until this transaction ends.
    """
    session.execute(select(func.pg_advisory_xact_lock(func.hashtext(f"release {run.project_id} {job}"))))
    query = (
        select(func.min(Run.number))
        .join(Cell, Cell.run_id == Run.id)
        .where(Run.project_id == run.project_id, Run.id != run.id, Cell.job == job, Cell.gated)
        .where((Cell.state == State.RUNNING) | ((Cell.state == State.WAITING) & Cell.ready))
    )
    return session.scalar(query) or 0


def runs_waiting_to_release(session: Session) -> Sequence[Run]:
    """Clear runs with jobs behind the verdict that wait for their turn."""
    behind = select(Cell.run_id).where(Cell.gated, Cell.selected, Cell.state == State.WAITING, ~Cell.ready)
    behind = behind.where(Cell.why == Why.GATED)
    query = select(Run).where(Run.id.in_(behind), Run.verdict == Verdict.CLEAR, Run.ended_at.is_not(None))
    return session.scalars(query.order_by(Run.id)).all()


def failed_housekeeping(session: Session) -> Sequence[tuple[str, int, str, str]]:
    """Project, run, job and reason of each housekeeping job whose newest end was no pass."""
    ended = select(Cell.id, Cell.job, Cell.state, Cell.reason, Run.number, Project.name)
    ended = ended.join(Run, Run.id == Cell.run_id).join(Project, Project.id == Run.project_id)
    ended = ended.where(Cell.housekeeping, Cell.selected, Cell.state.in_((State.PASSED, State.FAILED, State.VOID)))
    newest = ended.ext(distinct_on(Project.id, Cell.job, Cell.key)).order_by(
        Project.id, Cell.job, Cell.key, Run.id.desc()
    )
    found = newest.subquery()
    query = select(found.c.name, found.c.number, found.c.job, found.c.reason).where(found.c.state != State.PASSED)
    return session.execute(query.order_by(found.c.name, found.c.number)).all()


class ReleasePast(NamedTuple):
    """A tag and when it was first seen."""

    tag: str
    at: datetime


def releases_of_project(session: Session, project_id: int, most: int = 500) -> list[ReleasePast]:
    """The newest tags that were tested, the oldest of them first."""
    seen = func.min(Run.created_at)
    query = select(Run.tag, seen).where(Run.project_id == project_id, Run.event == EventKind.TAG, Run.tag != "")
    rows = session.execute(query.group_by(Run.tag).order_by(seen.desc(), Run.tag.desc()).limit(most)).all()
    return [ReleasePast(*row) for row in reversed(rows)]


def runs_with_releases(session: Session, project_id: int, most: int) -> Sequence[Run]:
    """The newest runs with jobs behind the verdict."""
    behind = select(Cell.id).where(Cell.run_id == Run.id, Cell.gated, Cell.selected, ~Cell.housekeeping)
    query = select(Run).where(Run.project_id == project_id, behind.exists())
    return session.scalars(query.order_by(Run.number.desc()).limit(most)).all()


def clear_runs_with_artifacts(
    session: Session, project_id: int, main: str, *, tagged: bool, most: int
) -> Sequence[Run]:
    """The newest clear runs that made artifacts: of pushed tags, or of pushes to the main branch."""
    made = select(Report.id).join(Cell, Cell.attempt_id == Report.attempt_id)
    made = made.where(Cell.run_id == Run.id, Report.content == Content.ARTIFACT)
    event = EventKind.TAG if tagged else EventKind.PUSH
    query = select(Run).where(Run.project_id == project_id, Run.event == event, Run.verdict == Verdict.CLEAR)
    query = query.where(Run.ended_at.is_not(None), made.exists())
    if not tagged:
        query = query.where(Run.branch == main)
    return session.scalars(query.order_by(Run.depth.desc(), Run.number.desc()).limit(most)).all()


@dataclass(frozen=True, slots=True)
class Made:
    """A file that a cell's newest attempt delivered for later."""

    run_id: int
    job: str
    key: str
    path: str
    digest: str  # SHA-256
    size: int
    report: int
    kept: bool  # it was not removed yet
    passed: bool  # the cell that made it


def made_in(session: Session, runs: Sequence[int]) -> list[Made]:
    """The artifacts of runs, in the order of their cells."""
    query = (
        select(
            Cell.run_id,
            Cell.job,
            Cell.key,
            Report.path,
            Report.digest,
            Report.size,
            Report.id,
            Report.blob != "",
            Cell.state == State.PASSED,
        )
        .join(Attempt, Attempt.id == Cell.attempt_id)
        .join(Report, Report.attempt_id == Attempt.id)
        .where(Cell.run_id.in_(runs), Report.content == Content.ARTIFACT)
        .order_by(Cell.run_id, Cell.position, Report.number)
    )
    return [Made(*row) for row in session.execute(query)] if runs else []


@dataclass(frozen=True, slots=True)
class Found:
    """An artifact of some run, with where it is from."""

    report: int
    path: str
    digest: str
    size: int
    kept: bool
    until: datetime | None
    run: int
    verdict: Verdict
    tag: str
    branch: str
    at: datetime
    job: str
    key: str


def artifacts_named(session: Session, project_id: int, text: str, before: int | None, most: int) -> list[Found]:
    """Artifacts whose path or digest holds a text, the newest first; `before` goes on below a report's number."""
    says = Report.path.icontains(text, autoescape=True) | Report.digest.startswith(text.lower(), autoescape=True)
    query = (
        select(
            Report.id,
            Report.path,
            Report.digest,
            Report.size,
            Report.blob != "",
            Report.until,
            Run.number,
            Run.verdict,
            Run.tag,
            Run.branch,
            Run.created_at,
            Cell.job,
            Cell.key,
        )
        .join(Attempt, Attempt.id == Report.attempt_id)
        .join(Cell, Cell.attempt_id == Attempt.id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Report.content == Content.ARTIFACT, Cell.reused.is_(None))
    )
    if text:
        query = query.where(says)
    if before is not None:
        query = query.where(Report.id < before)
    rows: Sequence[Any] = session.execute(query.order_by(Report.id.desc()).limit(most)).all()
    return [Found(*row) for row in rows]


def newest_released(session: Session, project_id: int) -> dict[str, tuple[int, datetime]]:
    """By job behind the verdict, the run in which it passed last, by the clock, and when."""
    query = (
        select(Cell.job, Run.number, Attempt.ended_at)
        .join(Cell, Cell.run_id == Run.id)
        .join(Attempt, Attempt.id == Cell.attempt_id)
        .where(Run.project_id == project_id, Cell.gated, ~Cell.housekeeping)
        .where(Cell.state == State.PASSED, Attempt.ended_at.is_not(None))
        .order_by(Attempt.ended_at)
    )
    return {job: (number, at) for job, number, at in session.execute(query) if at is not None}
