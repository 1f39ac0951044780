"""Questions about logs: their pieces, and what is usual in them."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.store.tables import LogChunk, UsualLines


def chunks_of_log(session: Session, attempt_id: int) -> Sequence[LogChunk]:
    query = select(LogChunk).where(LogChunk.attempt_id == attempt_id).order_by(LogChunk.offset)
    return session.scalars(query).all()


def chunks_within(session: Session, attempt_id: int, start: int, end: int) -> Sequence[LogChunk]:
    """The pieces that hold bytes from `start` up to `end`."""
    within = (LogChunk.offset + LogChunk.size > start) & (LogChunk.offset < end)
    query = select(LogChunk).where(LogChunk.attempt_id == attempt_id, within).order_by(LogChunk.offset)
    return session.scalars(query).all()


def usual_lines_of(session: Session, project_id: int, job: str) -> Sequence[UsualLines]:
    """What passing attempts of a job print, by step."""
    return session.scalars(select(UsualLines).where(UsualLines.project_id == project_id, UsualLines.job == job)).all()


def attempts_learned(session: Session, project_id: int, job: str) -> dict[str, int]:
    """By step, from how many attempts its usual lines were learned."""
    query = select(UsualLines.step, UsualLines.attempts)
    rows = session.execute(query.where(UsualLines.project_id == project_id, UsualLines.job == job))
    return dict(rows.all())


def usual_lines_to_change(session: Session, project_id: int, job: str, step: str, empty: bytes) -> UsualLines:
    """The usual lines of a step, locked for this transaction; made when there are none yet."""
    values = {"project_id": project_id, "job": job, "step": step, "digests": empty, "attempts": 0}
    session.execute(insert(UsualLines).values(values).on_conflict_do_nothing())
    return session.get_one(UsualLines, (project_id, job, step), with_for_update=True)
