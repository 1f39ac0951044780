"""Trends: what the past of a branch says, run by run, and where it changed."""

from __future__ import annotations

import csv
import io
import statistics
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from myriant.core.gate.contexts import push_to
from myriant.core.states import Verdict
from myriant.core.trends.changes import changes
from myriant.core.written import counted, duration
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.trends import Row, totals_on

MOST_RUNS = 5000


@dataclass(frozen=True, slots=True)
class TrendRun:
    number: int
    commit: str
    title: str
    author: str
    at: datetime
    verdict: Verdict
    new: int
    known: int
    fixed: int
    passed: int
    skipped: int
    flaky: int
    tests: int
    coverage: float | None  # percent
    seconds: float | None  # from the first cell's start to the end
    waited: float | None  # from the event to the first cell's start
    to_verdict: float | None  # from the event to the end


@dataclass(frozen=True, slots=True)
class SeriesChange:
    """A measure has another level from a run on; it came with one of the runs from `earliest` to `latest`."""

    measure: str
    said: str
    run: int
    earliest: int
    latest: int
    commit: str
    title: str
    before: float
    after: float
    worse: bool


@dataclass(frozen=True, slots=True)
class Trends:
    branch: str
    said: str
    runs: list[TrendRun]  # oldest first
    more: bool
    changes: list[SeriesChange]
    held: int
    repair: float | None  # median seconds from the first held run to the next clear one


@dataclass(frozen=True, slots=True)
class _Measure:
    name: str
    title: str
    value: Callable[[TrendRun], float | None]
    worse_up: bool | None  # None: neither way is worse
    written: Callable[[float], str]
    least: float = 0.05  # share of the level before that counts as a change


def _number(value: float) -> str:
    return f"{value:,.0f}"


def _percent(value: float) -> str:
    return f"{value:.1f} %"


_MEASURES = (
    _Measure("seconds", "A run takes", lambda r: r.seconds, True, duration),
    _Measure("waited", "Runs wait", lambda r: r.waited, True, duration),
    _Measure("tests", "The number of tests is", lambda r: float(r.tests), False, _number),
    _Measure("skipped", "Skipped tests are", lambda r: float(r.skipped), True, _number),
    _Measure("coverage", "Line coverage is", lambda r: r.coverage, False, _percent, 0.005),
)


def trends_of(site: Site, name: str, branch: str | None, most: int) -> Trends:
    """The newest decided runs of a branch as series. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        branch = branch or project.main_branch
        rows = list(totals_on(session, project.id, str(push_to(branch)), most + 1))
        more, rows = len(rows) > most, rows[:most][::-1]
    runs = [_run(row) for row in rows]
    found = [c for m in _MEASURES for c in _changes(m, runs)]
    found.sort(key=lambda c: -c.run)
    repair = _repair(runs)
    return Trends(
        branch, _said(runs, found, repair), runs, more, found, sum(r.verdict is Verdict.HELD for r in runs), repair,
    )  # fmt: skip


def _run(row: Row) -> TrendRun:
    _, number, commit, title, author, verdict, made, started, ended, jobs, covered, valid, _ = row

    def sum_of(measure: str) -> int:
        return sum(j.get(measure, 0) for j in (jobs or {}).values())

    return TrendRun(
        number, commit, title, author, made, Verdict(verdict), sum_of("tests.new"), sum_of("tests.known"),
        sum_of("tests.fixed"), sum_of("tests.passed"), sum_of("tests.skipped"), sum_of("tests.flaky"),
        sum_of("tests.total"), 100 * covered / valid if valid and covered is not None else None,
        (ended - started).total_seconds() if ended and started else None,
        (started - made).total_seconds() if started else None,
        (ended - made).total_seconds() if ended else None,
    )  # fmt: skip


def _changes(measure: _Measure, runs: Sequence[TrendRun]) -> list[SeriesChange]:
    told = []
    for change in changes([measure.value(r) for r in runs], measure.least):
        run = runs[change.at]
        up = change.after > change.before
        share = (change.after - change.before) / change.before if change.before else None
        by = f" ({'+' if up else '−'}{abs(share) * 100:.0f} %)" if share is not None and abs(share) < 10 else ""
        if measure.name == "coverage":
            by = f" ({'+' if up else '−'}{abs(change.after - change.before):.1f} points)"
        told.append(
            SeriesChange(
                measure.name,
                f"{measure.title} {measure.written(change.after)}{by} since #{run.number}, before it "
                f"{measure.written(change.before)}",
                run.number, runs[change.earliest].number, runs[change.latest].number, run.commit, run.title,
                change.before, change.after, measure.worse_up is not None and up is measure.worse_up,
            )
        )  # fmt: skip
    return told


def _repair(runs: Sequence[TrendRun]) -> float | None:
    """The median time from the first of held runs in a row to the clear one that ends them."""
    since: datetime | None = None
    took = []
    for run in runs:
        if run.verdict is Verdict.HELD:
            since = since or run.at
        elif since is not None:
            took.append((run.at - since).total_seconds())
            since = None
    return statistics.median(took) if took else None


def _said(runs: Sequence[TrendRun], found: Sequence[SeriesChange], repair: float | None) -> str:
    if not runs:
        return "Nothing has been judged on this branch yet."
    held = sum(r.verdict is Verdict.HELD for r in runs)
    parts = [f"{held} of the newest {counted(len(runs), 'run')} were held" if len(runs) > 1 else "One run was judged"]
    if repair is not None:
        parts.append(f"what is held is clear again after {duration(repair)} in the median")
    times = [r.to_verdict for r in runs if r.to_verdict is not None]
    if times:
        parts.append(f"a verdict takes {duration(statistics.median(times))}")
    worse = next((c for c in found if c.worse), None)
    return f"{'; '.join(parts)}.{f' {worse.said}.' if worse else ''}"


def trends_table(site: Site, name: str, branch: str | None, most: int) -> str:
    """The series as CSV, a line a run."""
    runs = trends_of(site, name, branch, most).runs
    out = io.StringIO()
    fields = list(TrendRun.__dataclass_fields__)
    writer = csv.writer(out)
    writer.writerow(fields)
    for run in runs:
        row: dict[str, Any] = asdict(run)
        writer.writerow([_plain(row[f]) for f in fields])
    return out.getvalue()


def _plain(value: Any) -> Any:
    """A value of a table; a text that a spreadsheet would take for a formula is quoted."""
    text = value.isoformat() if isinstance(value, datetime) else value
    return f"'{text}" if isinstance(text, str) and text[:1] in ("=", "+", "-", "@", "\t") else text
