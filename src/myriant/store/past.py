"""Questions over all runs of a project: which there are, and which failures say something."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Select, func, or_, select
from sqlalchemy.orm import Session

from myriant.core.states import DECIDED, EventKind, Verdict
from myriant.store.tables import Attempt, Cell, Failure, Run


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which runs: empty and None say nothing."""

    text: str = ""  # in the title, the author's name, or at the beginning of the commit's id
    verdict: Verdict | None = None
    event: EventKind | None = None
    branch: str = ""
    since: datetime | None = None
    until: datetime | None = None


def _fitting(project_id: int, wanted: Wanted) -> Select[Run]:
    query = select(Run).where(Run.project_id == project_id)
    if wanted.text:
        there = wanted.text.lower()
        inside = (func.lower(column).contains(there, autoescape=True) for column in (Run.title, Run.author))
        query = query.where(or_(*inside, Run.commit.startswith(there, autoescape=True)))
    if wanted.verdict is not None:
        query = query.where(Run.verdict == wanted.verdict)
    if wanted.event is not None:
        query = query.where(Run.event == wanted.event)
    if wanted.branch:
        query = query.where(Run.branch == wanted.branch)
    if wanted.since is not None:
        query = query.where(Run.created_at >= wanted.since)
    if wanted.until is not None:
        query = query.where(Run.created_at < wanted.until)
    return query


def runs_fitting(session: Session, project_id: int, wanted: Wanted, before: int | None, most: int) -> Sequence[Run]:
    """The newest of the runs that fit, those before a number if one is given."""
    query = _fitting(project_id, wanted)
    if before is not None:
        query = query.where(Run.number < before)
    return session.scalars(query.order_by(Run.number.desc()).limit(most)).all()


def decided_between(session: Session, project_id: int, since: datetime) -> Sequence[Run]:
    """Runs that were judged since a time, the oldest first; evidence says nothing."""
    query = select(Run).where(Run.project_id == project_id, Run.context != "", Run.verdict.in_(DECIDED))
    return session.scalars(query.where(Run.ended_at >= since).order_by(Run.number)).all()


def last_decided_before(
    session: Session, project_id: int, contexts: Collection[str], moment: datetime
) -> dict[str, Run]:
    """By context, the newest run that was judged before a time."""
    newest = (
        select(func.max(Run.id))
        .where(Run.project_id == project_id, Run.context.in_(contexts), Run.verdict.in_(DECIDED))
        .where(Run.ended_at < moment)
        .group_by(Run.context)
    )
    return {run.context: run for run in session.scalars(select(Run).where(Run.id.in_(newest)))} if contexts else {}


def newest_in_context(session: Session, project_id: int, context: str, since: datetime) -> Run | None:
    """The newest run of a context that was made since a time."""
    query = select(Run).where(Run.project_id == project_id, Run.context == context, Run.created_at >= since)
    return session.scalars(query.order_by(Run.number.desc()).limit(1)).first()


def count_fitting(session: Session, project_id: int, wanted: Wanted) -> int:
    return session.scalar(select(func.count()).select_from(_fitting(project_id, wanted).subquery())) or 0


@dataclass(frozen=True, slots=True)
class FoundFailure:
    """A failure that fits, with where it is."""

    signature: str
    test: int
    message: str
    run: int
    job: str
    key: str
    at: datetime


@dataclass(frozen=True, slots=True)
class LogAt:
    """An attempt that printed something, and where it is."""

    attempt_id: int
    number: int
    state: str
    run: int
    job: str
    key: str
    at: datetime


def logs_since(
    session: Session, project_id: int, since: datetime, before: int | None, most: int
) -> tuple[list[LogAt], int]:
    """Attempts with a log of the runs made since a time, the newest first, those before an attempt's id if given; at
    most so many, and how many there are.
    """
    query = (
        select(Attempt.id, Attempt.number, Attempt.state, Run.number, Cell.job, Cell.key, Run.created_at)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Run.created_at >= since, Attempt.number > 0, Attempt.log_size > 0)
    )
    if before is not None:
        query = query.where(Attempt.id < before)
    rows = [LogAt(*row) for row in session.execute(query.order_by(Attempt.id.desc()).limit(most))]
    full = len(rows) == most
    return rows, (session.scalar(select(func.count()).select_from(query.subquery())) or 0) if full else len(rows)


def failures_saying(
    session: Session, project_id: int, text: str, tests: Collection[int], since: datetime, most: int
) -> list[FoundFailure]:
    """Failed and errored results with a text in their message, or of some tests, newest run first."""
    said = func.lower(Failure.message).contains(text.lower(), autoescape=True)
    query = (
        select(
            Failure.signature,
            Failure.test,
            func.left(Failure.message, 400),
            Run.number,
            Cell.job,
            Cell.key,
            Run.created_at,
        )
        .join(Attempt, Attempt.id == Failure.attempt_id)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Run.created_at >= since, Failure.signature != "", Attempt.number > 0)
        .where(or_(said, Failure.test.in_(tests)) if tests else said)
        .order_by(Run.number.desc(), Cell.position)
        .limit(most)
    )
    return [FoundFailure(*row) for row in session.execute(query)]
