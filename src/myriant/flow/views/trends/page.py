"""Trends: what the past of a branch says, run by run, and where it changed."""

from __future__ import annotations

import csv
import io
import statistics
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import pyarrow as pa
import pyarrow.parquet as pq

from myriant.core.gate.contexts import push_to
from myriant.core.states import Verdict
from myriant.core.trends.changes import Values
from myriant.core.written import counted, duration
from myriant.flow.compare.levels import SeriesChange, changes_of, values_of
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.trends import TOTALS, Series, series_on

MOST_RUNS = 5000


@dataclass(frozen=True, slots=True)
class TrendRuns:
    """Runs as columns of one length, the oldest first."""

    number: list[int]
    commit: list[str]
    title: list[str]
    author: list[str]
    at: list[datetime]
    verdict: list[Verdict]
    new: list[int]
    known: list[int]
    fixed: list[int]
    passed: list[int]
    skipped: list[int]
    flaky: list[int]
    tests: list[int]
    rate: list[float | None]  # percent: passed ÷ (passed + failed + errored)
    coverage: list[float | None]  # percent
    seconds: list[float | None]  # from the first cell's start to the end
    waited: list[float | None]  # from the event to the first cell's start
    to_verdict: list[float | None]  # from the event to the end


@dataclass(frozen=True, slots=True)
class Trends:
    branch: str
    said: str
    runs: TrendRuns
    more: bool
    changes: list[SeriesChange]
    held: int
    repair: float | None  # median seconds from the first held run to the next clear one


def trends_of(site: Site, name: str, branch: str | None, most: int) -> Trends:
    """The newest decided runs of a branch as series. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        branch = branch or project.main_branch
        series = series_on(session, project.id, str(push_to(branch)), most + 1)
    more = len(series.number) > most
    series = series.at(range(int(more), len(series.number)))
    values = values_of(series)
    runs, found = columns_of(series, values), changes_of(series, values)
    repair = repair_of(runs)
    held = sum(v is Verdict.HELD for v in runs.verdict)
    return Trends(branch, _said(runs, held, found, repair), runs, more, found, held, repair)


def columns_of(series: Series, values: Mapping[str, Values]) -> TrendRuns:
    """The runs as they are told."""
    counts: dict[str, Any] = {name: series.totals[:, i].tolist() for i, name in enumerate(TOTALS)}
    numbers: dict[str, Any] = {
        name: [None if v != v else v for v in values[name].tolist()]
        for name in ("rate", "coverage", "seconds", "waited", "to_verdict")
    }
    return TrendRuns(
        number=series.number,
        commit=series.commit,
        title=series.title,
        author=series.author,
        at=[datetime.fromtimestamp(t, UTC) for t in series.made.tolist()],
        verdict=[Verdict(v) for v in series.verdict],
        **counts,
        **numbers,
    )


def repair_of(runs: TrendRuns) -> float | None:
    """The median time from the verdict of the first of held runs in a row to that of the clear one that ends them."""
    since: datetime | None = None
    took = []
    for pushed, seconds, verdict in zip(runs.at, runs.to_verdict, runs.verdict, strict=True):
        at = pushed + timedelta(seconds=seconds or 0)
        if verdict is Verdict.HELD:
            since = since or at
        elif since is not None:
            took.append((at - since).total_seconds())
            since = None
    return statistics.median(took) if took else None


def _said(runs: TrendRuns, held: int, found: Sequence[SeriesChange], repair: float | None) -> str:
    count = len(runs.number)
    if not count:
        return "Nothing has been judged on this branch yet."
    parts = [f"{held} of the newest {counted(count, 'run')} were held" if count > 1 else "One run was judged"]
    if repair is not None:
        parts.append(f"what is held is clear again after {duration(repair)} in the median")
    times = [t for t in runs.to_verdict if t is not None]
    if times:
        parts.append(f"a verdict takes {duration(statistics.median(times))}")
    worse = next((c for c in found if c.worse), None)
    return f"{'; '.join(parts)}.{f' {worse.said}.' if worse else ''}"


def trends_table(site: Site, name: str, branch: str | None, most: int) -> str:
    """The series as CSV, a line a run."""
    columns = _table(site, name, branch, most)
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(columns)
    writer.writerows([_plain(value) for value in row] for row in zip(*columns.values(), strict=True))
    return out.getvalue()


def trends_parquet(site: Site, name: str, branch: str | None, most: int) -> bytes:
    """The series as a Parquet file, a row a run."""
    sink = io.BytesIO()
    pq.write_table(pa.table(_table(site, name, branch, most)), sink, compression="zstd")
    return sink.getvalue()


def _table(site: Site, name: str, branch: str | None, most: int) -> dict[str, list[Any]]:
    runs = trends_of(site, name, branch, most).runs
    columns = {field: list(getattr(runs, field)) for field in TrendRuns.__dataclass_fields__}
    return {**columns, "verdict": [str(v) for v in runs.verdict]}


def _plain(value: Any) -> Any:
    """A value of a table; a text that a spreadsheet would take for a formula is quoted."""
    text = value.isoformat() if isinstance(value, datetime) else value
    return f"'{text}" if isinstance(text, str) and text[:1] in ("=", "+", "-", "@", "\t") else text
