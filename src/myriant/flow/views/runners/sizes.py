"""How large everything is that the server keeps, and how fast it grows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta

from myriant.core.written import counted, weight
from myriant.flow.site import Site
from myriant.store.sizes import FILES, by_subject, file_bytes, size_of_database, sizes_since, table_sizes

LOOKED_BACK = timedelta(days=90)
LEAST_DAYS = 7  # between the first and the newest size, before anything is foretold
MOST_TABLES = 15


@dataclass(frozen=True, slots=True)
class SubjectSize:
    what: str
    bytes: int
    a_day: float | None  # by which it grew over the days that are known; None: too few


@dataclass(frozen=True, slots=True)
class TableSize:
    name: str
    bytes: int
    rows: int  # as PostgreSQL estimates them


@dataclass(frozen=True, slots=True)
class DaySize:
    day: date
    bytes: int


@dataclass(frozen=True, slots=True)
class Sizes:
    said: str
    database: int
    files: int
    free: int | None  # bytes where files are kept; None: it cannot be told there
    subjects: list[SubjectSize]  # the largest first
    tables: list[TableSize]
    days: list[DaySize]  # all together, oldest first


def sizes_of(site: Site, now: datetime | None = None) -> Sizes:
    today = (now or datetime.now(UTC)).date()
    with site.store.view() as session:
        tables = table_sizes(session)
        sizes = {**by_subject(tables), FILES: file_bytes(session)}
        past = sizes_since(session, today - LOOKED_BACK)
        database = size_of_database(session)
    free = site.blobs.free()
    growth = _growth(past, sizes, today)
    by_day: dict[date, int] = {}
    for day, _, of in past:
        by_day[day] = by_day.get(day, 0) + of
    subjects = [SubjectSize(what, of, growth.get(what)) for what, of in sizes.items() if of]
    subjects.sort(key=lambda s: -s.bytes)
    return Sizes(
        _said(database, sizes[FILES], free, growth, len(by_day)),
        database,
        sizes[FILES],
        free,
        subjects,
        [TableSize(*row) for row in tables[:MOST_TABLES]],
        [DaySize(d, of) for d, of in by_day.items()],
    )


def _growth(past: Sequence[tuple[date, str, int]], now: Mapping[str, int], today: date) -> dict[str, float]:
    """Bytes a day since the oldest size that is known, where that is long enough ago."""
    first: dict[str, tuple[date, int]] = {}
    for day, what, of in past:
        first.setdefault(what, (day, of))
    return {
        what: (now[what] - of) / (today - day).days
        for what, (day, of) in first.items()
        if what in now and (today - day).days >= LEAST_DAYS
    }


def _said(database: int, files: int, free: int | None, growth: Mapping[str, float], days: int) -> str:
    told = f"{weight(database)} in the database and {weight(files)} in files"
    told += f"; {weight(free)} are free" if free is not None else ""
    if not growth:
        return f"{told}. How fast that grows is told after a week: so far {counted(days, 'day')} known."
    grows = sum(growth.values())
    if grows < 1:
        return f"{told}. It does not grow."
    said = f"{told}. It grows by {weight(int(grows))} a day"
    if free is None:
        return f"{said}."
    days_left = free / grows
    lasts = f"{days_left:,.0f} days" if days_left < 3650 else "more than ten years"
    return f"{said}: at that rate there is room for {lasts}."
