"""Where a measure of a branch's runs has another level."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.gate.contexts import push_to
from myriant.core.trends.changes import LEAST, Values, changes
from myriant.core.written import duration
from myriant.store.tables import Run
from myriant.store.trends import TOTALS, Series, series_on

LOOKED_BACK = 200  # runs before one that is judged


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
class _Measure:
    name: str
    title: str
    worse_up: bool | None  # None: neither way is worse
    written: Callable[[float], str]
    least: float = 0.05  # share of the level before that counts as a change


def _number(value: float) -> str:
    return f"{value:,.0f}"


def _percent(value: float) -> str:
    return f"{value:.1f} %"


_MEASURES = (
    _Measure("seconds", "A run usually takes", True, duration),
    _Measure("waited", "The first cell usually starts after", True, duration),
    _Measure("tests", "The usual number of tests is", False, _number),
    _Measure("skipped", "The usual number of skipped tests is", True, _number),
    _Measure("rate", "The usual share of tests that pass is", False, _percent, 0.005),
    _Measure("coverage", "Usual line coverage is", False, _percent, 0.005),
)


def values_of(series: Series) -> dict[str, Values]:
    """The measures of runs as numbers; NaN where one is not known. Shares are percent, times seconds."""
    totals = {name: series.totals[:, i].astype(np.float64) for i, name in enumerate(TOTALS)}
    ran = totals["tests"] - totals["skipped"] - totals["flaky"]
    with np.errstate(divide="ignore", invalid="ignore"):
        return {
            **totals,
            "rate": np.where(ran > 0, 100 * totals["passed"] / ran, np.nan),
            "coverage": 100 * series.covered / np.where(series.valid > 0, series.valid, np.nan),
            "seconds": series.ended - series.started - series.rested,
            "waited": series.started - series.made,
            "to_verdict": series.ended - series.made - series.rested,
        }


def changes_of(series: Series, values: Mapping[str, Values]) -> list[SeriesChange]:
    """Where a measure has another level, the newest first."""
    return sorted((c for m in _MEASURES for c in _changes(m, values[m.name], series)), key=lambda c: -c.run)


def _changes(measure: _Measure, values: Values, series: Series) -> list[SeriesChange]:
    told: list[SeriesChange] = []
    found = changes(values, measure.least)
    known = np.flatnonzero(np.isfinite(values))
    newest = known[-1] if len(known) else 0
    for change in found:
        number = series.number[change.at]
        up = change.after > change.before
        share = (change.after - change.before) / change.before if change.before else None
        by = f" ({'+' if up else '−'}{abs(share) * 100:.0f} %)" if share is not None and abs(share) < 10 else ""
        if measure.written is _percent:
            by = f" ({'+' if up else '−'}{abs(change.after - change.before):.1f} points)"
        said = f"{measure.title} {measure.written(change.after)}{by} since #{number}"
        now = ""  # a level is the middle of its runs: the newest is told where it is not like them
        if change is found[-1] and abs(values[newest] - change.after) > abs(change.after - change.before) / 2:
            now = f"; in #{series.number[newest]}, the newest, {measure.written(values[newest])}"
        told.append(
            SeriesChange(
                measure.name,
                f"{said}, before it {measure.written(change.before)}{now}",
                number,
                series.number[change.earliest],
                series.number[change.latest],
                series.commit[change.at],
                series.title[change.at],
                change.before,
                change.after,
                measure.worse_up is not None and up is measure.worse_up,
            )
        )
    return told


def changes_at(session: Session, run: Run) -> list[SeriesChange]:
    """Changes of level that came with a run of a branch, as far as the runs since say so."""
    if not _is_on_a_branch(run):
        return []
    series = series_on(session, run.project_id, run.context, 5 * LOOKED_BACK)
    return [c for c in changes_of(series, values_of(series)) if c.run == run.number]


def seen_with(session: Session, run: Run) -> list[SeriesChange]:
    """Changes of level that can be told since this run, and could not before it: of its branch, with it or before."""
    if not _is_on_a_branch(run):
        return []
    session.flush()
    series = series_on(session, run.project_id, run.context, LOOKED_BACK)
    if len(series.number) < 2 * LEAST or series.number[-1] != run.number:
        return []
    values = values_of(series)
    found = _settled(series, values)
    before = series.at(range(len(series.number) - 1))
    known = _settled(before, {m: v[:-1] for m, v in values.items()}) if found else []
    return [c for c in found if not any(k.measure == c.measure and c.earliest <= k.run <= c.latest for k in known)]


def _settled(series: Series, values: Mapping[str, Values]) -> list[SeriesChange]:
    """Changes that are news: not so near to the end that they may still move, nor so far that they were told of, and
    only stood in the shadow of another.
    """
    place, end = {number: i for i, number in enumerate(series.number)}, len(series.number)
    return [c for c in changes_of(series, values) if LEAST < end - place[c.run] <= 3 * LEAST]


def _is_on_a_branch(run: Run) -> bool:
    return bool(run.branch) and run.context == str(push_to(run.branch))


def said_short(change: SeriesChange) -> str:
    """One line of a note: the measure, and the commit with which its level came, or may have come as well."""
    level = change.said.partition(", before it")[0].rpartition(" since ")[0]
    return f"{level} since {change.commit[:7]} (#{change.run}{said_or(change)})"


def said_or(change: SeriesChange) -> str:
    """With which other runs it may have come as well; empty where there are none."""
    return f", or another of #{change.earliest} to #{change.latest}" if change.earliest != change.latest else ""
