"""How large the database is, and what its growth was."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date, timedelta

from sqlalchemy import delete, func, select, text
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.store.tables import CacheEntry, Report, SizeOfDay

KEPT_DAYS = 400
SUBJECTS: Mapping[str, tuple[str, ...]] = {
    "results of tests": ("segment", "failure", "test", "test_list", "moved_test", "sending", "lasting"),
    "logs": ("log_chunk", "usual_lines"),
    "coverage": ("coverage_total", "coverage_file", "coverage_vector", "source_file"),
    "runs, cells and attempts": (
        "run",
        "cell",
        "attempt",
        "step",
        "attempt_record",
        "job_result",
        "report",
        "plan_text",
    ),
    "what was analysed": ("analysis_result",),
    "news": ("delivery", "kept_news", "outcome", "change"),
    "work that waits or was done": ("procrastinate_jobs", "procrastinate_events", "procrastinate_periodic_defers"),
}
OTHER = "everything else"
FILES = "files outside the database"


def table_sizes(session: Session) -> list[tuple[str, int, int]]:
    """Table, its bytes with indexes and long values, and its rows as PostgreSQL estimates them; the largest first."""
    rows = session.execute(
        text(
            "SELECT relname, pg_total_relation_size(oid), greatest(reltuples, 0)::bigint FROM pg_class"
            " WHERE relkind = 'r' AND relnamespace = current_schema()::regnamespace ORDER BY 2 DESC"
        )
    )
    return [(str(name), int(size), int(count)) for name, size, count in rows]


def size_of_database(session: Session) -> int:
    return int(session.scalar(text("SELECT pg_database_size(current_database())")) or 0)


def file_bytes(session: Session) -> int:
    """What kept files and caches weigh, each blob once."""
    each = select(Report.blob, func.max(Report.size).label("size")).where(Report.blob.is_not(None))
    blobs = each.group_by(Report.blob).subquery()
    files = session.scalar(select(func.coalesce(func.sum(blobs.c.size), 0)))
    caches = session.scalar(select(func.coalesce(func.sum(CacheEntry.size), 0)))
    return int(files or 0) + int(caches or 0)


def subject_of(table: str) -> str:
    return next((subject for subject, tables in SUBJECTS.items() if table in tables), OTHER)


def by_subject(tables: Sequence[tuple[str, int, int]]) -> dict[str, int]:
    found = dict.fromkeys((*SUBJECTS, OTHER), 0)
    for name, size, _ in tables:
        found[subject_of(name)] += size
    return found


def keep_sizes(session: Session, today: date) -> bool:
    """Keep today's sizes once; whether they were not kept yet."""
    if session.scalar(select(SizeOfDay.day).where(SizeOfDay.day == today).limit(1)) is not None:
        return False
    sizes = {**by_subject(table_sizes(session)), FILES: file_bytes(session)}
    rows = [{"day": today, "what": what, "bytes": size} for what, size in sizes.items()]
    session.execute(insert(SizeOfDay).values(rows).on_conflict_do_nothing())
    session.execute(delete(SizeOfDay).where(SizeOfDay.day < today - timedelta(days=KEPT_DAYS)))
    return True


def sizes_since(session: Session, day: date) -> list[tuple[date, str, int]]:
    rows = session.execute(
        select(SizeOfDay.day, SizeOfDay.what, SizeOfDay.bytes).where(SizeOfDay.day >= day).order_by(SizeOfDay.day)
    )
    return [(d, what, size) for d, what, size in rows]
