"""Questions about what is kept no longer: logs and files of older attempts."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import Select, delete, func, or_, select, update
from sqlalchemy.orm import Session

from myriant.core.states import OPEN
from myriant.store.tables import Attempt, CacheEntry, Cell, LogChunk, Project, Report, Run

KEPT_RUNS = 20  # the newest of each context stay whole, and those that they are judged by


def _outlived(project_id: int, before: datetime) -> Select[int]:
    """Attempts of runs that ended before a time, but of none that is still looked at."""
    place = func.row_number().over(partition_by=Run.context, order_by=Run.number.desc())
    ranked = select(Run.id, Run.baseline_id, place.label("place")).where(Run.project_id == project_id).subquery()
    newest = select(ranked.c.id).where(ranked.c.place <= KEPT_RUNS)
    bases = select(ranked.c.baseline_id).where(ranked.c.place <= KEPT_RUNS, ranked.c.baseline_id.is_not(None))
    kept = or_(Run.id.in_(newest), Run.id.in_(bases), Run.ended_at.is_(None), Run.ended_at >= before)
    shown = (  # reused ones too: a job of a run that is not over yet may wait for their files
        select(Cell.attempt_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, kept, Cell.attempt_id.is_not(None))
    )
    return (
        select(Attempt.id)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Run.ended_at < before, Run.state.not_in(OPEN))
        .where(Run.id.not_in(newest), Run.id.not_in(bases), Attempt.id.not_in(shown))
        .where(Attempt.ended_at < before, Attempt.pruned_at.is_(None))
    )


def freed(session: Session, project_id: int, before: datetime) -> tuple[int, int, int]:
    """Attempts that would lose their logs and files, and the bytes of logs and of files that this frees."""
    ids = _outlived(project_id, before).subquery()
    count, logs = session.execute(
        select(func.count(), func.coalesce(func.sum(LogChunk.size), 0))
        .select_from(ids)
        .outerjoin(LogChunk, LogChunk.attempt_id == ids.c.id)
    ).one()
    attempts = session.scalar(select(func.count()).select_from(ids)) or 0
    files = session.scalar(
        select(func.coalesce(func.sum(Report.size), 0)).where(Report.attempt_id.in_(select(ids.c.id)))
    )
    return attempts if count else 0, int(logs), int(files or 0)


def prune(session: Session, project_id: int, before: datetime, most: int) -> list[str]:
    """Let go of the logs and files of a few attempts; the keys of their blobs. Totals, results and verdicts stay."""
    ids = list(session.scalars(_outlived(project_id, before).order_by(Attempt.id).limit(most)))
    if not ids:
        return []
    gone = list(session.scalars(select(LogChunk.blob).where(LogChunk.attempt_id.in_(ids))))
    gone += session.scalars(select(Report.blob).where(Report.attempt_id.in_(ids), Report.blob != "")).all()
    session.execute(delete(LogChunk).where(LogChunk.attempt_id.in_(ids)))
    session.execute(update(Report).where(Report.attempt_id.in_(ids)).values(blob=""))
    session.execute(update(Attempt).where(Attempt.id.in_(ids)).values(pruned_at=func.now(), log_size=0, log_lines=0))
    return gone


def projects_that_prune(session: Session) -> Sequence[tuple[int, int]]:
    """Projects that keep logs and files for so many days only."""
    query = select(Project.id, Project.keep_days).where(Project.keep_days.is_not(None))
    return [(project, days) for project, days in session.execute(query) if days is not None]


def blobs_of_project(session: Session, project_id: int) -> list[str]:
    """Every blob that goes with a project."""
    attempts = (
        select(Attempt.id)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id)
    )
    found = list(session.scalars(select(LogChunk.blob).where(LogChunk.attempt_id.in_(attempts))))
    found += session.scalars(select(Report.blob).where(Report.attempt_id.in_(attempts), Report.blob != "")).all()
    found += session.scalars(select(CacheEntry.blob).where(CacheEntry.project_id == project_id)).all()
    return found
