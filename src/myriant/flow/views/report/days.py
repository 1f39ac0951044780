"""A report: some days of a branch beside the days before, or beside another branch."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.gate.contexts import push_to
from myriant.core.trends.changes import Values
from myriant.core.written import counted, duration
from myriant.flow.compare.levels import SeriesChange, changes_of, values_of
from myriant.flow.diagnose.breaks import breaks_in
from myriant.flow.errors import NotFound
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.views.trends.page import MOST_RUNS, TrendRuns, columns_of, repair_of
from myriant.store.releases import ReleasePast, releases_of_project
from myriant.store.tables import Project
from myriant.store.trends import minutes_between, past_on, series_on

MOST_DAYS = 3650
MOST_RELEASES = 50  # that are listed
BEFORE = 50  # runs before a time in which what is broken in it may have begun
MOST_DRAWN = 400  # runs on a line
_EVER = datetime(1970, 1, 1, tzinfo=UTC)
LEAST = 0.05  # of a median, that differs by more than chance, to be told as better or worse
POINTS = 1.0  # of coverage, likewise
CHANCE = 0.01  # how often what is called more than chance is chance, of what does not differ


@dataclass(frozen=True, slots=True)
class Side:
    """Runs that are compared with others."""

    branch: str
    title: str  # what they are: a branch, days, a release
    since: datetime
    until: datetime
    runs: int
    held: int


@dataclass(frozen=True, slots=True)
class ReportRow:
    """A measure on both sides, in words."""

    title: str
    now: str
    before: str
    better: bool | None  # None: neither, or no more than chance
    said: str  # how far the difference goes beyond chance


@dataclass(frozen=True, slots=True)
class BranchReport:
    said: str
    now: Side
    before: Side
    rows: list[ReportRow]
    changes: list[SeriesChange]  # of level, that came in this time
    cut: bool  # there are more runs than are looked at
    releases: list[str]  # that can be compared, the newest first


@dataclass(frozen=True, slots=True)
class ReportLine:
    """One measure over the runs of a report, the oldest first."""

    title: str
    values: list[float | None]
    written: Callable[[float], str]


@dataclass(frozen=True, slots=True)
class _Part:
    side: Side
    runs: TrendRuns
    values: dict[str, Values]
    minutes: float


@dataclass(frozen=True, slots=True)
class Asked:
    """What a report is of: the newest `days` of a branch, or the way to a release."""

    days: int = 30
    branch: str | None = None  # None: the main branch
    beside: str | None = None  # another branch, or another release; None: the days, or the release, before
    release: str | None = None


def report_of(site: Site, name: str, asked: Asked, now: datetime | None = None) -> BranchReport:
    """Days of a branch, or the way to a release, beside what is asked for. Raises NotFound."""
    return report_with_lines(site, name, asked, now)[0]


def report_with_lines(
    site: Site, name: str, asked: Asked, now: datetime | None = None
) -> tuple[BranchReport, list[ReportLine]]:
    """The same, with its measures run by run. Raises NotFound."""
    until = now or datetime.now(UTC)
    with site.store.view() as session:
        project = the_project(session, name)
        branch = asked.branch or project.main_branch
        releases = releases_of_project(session, project.id)
        sides = _of_releases(releases, asked) if asked.release is not None else _of_days(asked, branch, until)
        (one, cut, changes), (other, more, _) = (_part(session, project, *side) for side in sides)
    rows = [row for row in _rows(one, other) if row is not None] if one.side.runs or other.side.runs else []
    over = (
        f"since {_before(releases, asked.release)}" if asked.release is not None else f"in {counted(asked.days, 'day')}"
    )
    told = BranchReport(
        _said(one.side, other.side, over, rows),
        one.side,
        other.side,
        rows,
        changes,
        cut or more,
        [r.tag for r in releases[::-1]][:MOST_RELEASES],
    )
    return told, _lines(one)


_Wanted = tuple[str | None, str, datetime, datetime]  # branch (None: the main one), title, since, until


def _of_days(asked: Asked, branch: str, until: datetime) -> tuple[_Wanted, _Wanted]:
    length = timedelta(days=asked.days)
    now = (branch, branch, until - length, until)
    if asked.beside is not None and asked.beside != branch:
        return now, (asked.beside, asked.beside, until - length, until)
    said = counted(asked.days, "day")
    return (branch, f"these {said}", *now[2:]), (branch, f"the {said} before", until - 2 * length, until - length)


def _of_releases(releases: Sequence[ReleasePast], asked: Asked) -> tuple[_Wanted, _Wanted]:
    """The main branch on the way to a release: from the release before until it."""
    tags = [r.tag for r in releases]
    if asked.release not in tags:
        raise NotFound(f"there is no release {(asked.release or '')[:80]!r}")
    if asked.beside is not None and asked.beside not in tags:
        raise NotFound(f"there is no release {asked.beside[:80]!r}")
    at = tags.index(asked.release)
    beside = tags.index(asked.beside) if asked.beside is not None else at - 1

    def way(place: int) -> _Wanted:
        if place < 0:
            return None, "no release before", _EVER, _EVER
        since = releases[place - 1].at if place else _EVER
        return None, tags[place], since, releases[place].at + timedelta(microseconds=1)

    return way(at), way(beside)


def _before(releases: Sequence[ReleasePast], tag: str | None) -> str:
    tags = [r.tag for r in releases]
    at = tags.index(tag) if tag in tags else 0
    return f"release {tags[at - 1]}" if at else "the beginning"


def _lines(part: _Part) -> list[ReportLine]:
    """The newest runs only: more are no line on paper."""
    wanted: list[tuple[str, str, Callable[[float], str]]] = [
        ("Tests that broke", "broke", lambda v: f"{v:,.0f}"),
        ("Time to the verdict", "to_verdict", duration),
        ("Tests", "tests", lambda v: f"{v:,.0f}"),
        ("Lines covered", "coverage", lambda v: f"{v:.1f} %"),
    ]
    found = []
    for title, name, written in wanted:
        values = part.values[name][-MOST_DRAWN:]
        if np.isfinite(values).sum() > 1:
            found.append(ReportLine(title, [float(v) if np.isfinite(v) else None for v in values], written))
    return found


def _part(
    session: Session, project: Project, branch: str | None, title: str, since: datetime, until: datetime
) -> tuple[_Part, bool, list[SeriesChange]]:
    branch = branch or project.main_branch
    context = str(push_to(branch))
    series = series_on(session, project.id, context, MOST_RUNS)
    inside = (series.made >= since.timestamp()) & (series.made < until.timestamp())
    part = series.at(np.flatnonzero(inside).tolist())
    values = values_of(part)
    runs = columns_of(part, values)
    values = {**values, "broke": _broke(session, project, context, part.number)}
    changes = [c for c in changes_of(series, values_of(series)) if c.run in set(part.number)]
    held = sum(v == "held" for v in runs.verdict)
    begun = runs.at[0] if since == _EVER and runs.at else min(since, until)
    side = Side(branch, title, until if begun == _EVER else begun, until, len(runs.number), held)
    cut = len(series.number) == MOST_RUNS and bool(series.made.min() > since.timestamp())
    return _Part(side, runs, values, minutes_between(session, project.id, context, since, until)), cut, changes


def _broke(session: Session, project: Project, context: str, numbers: Sequence[int]) -> Values:
    """By run, how many tests began to fail with it, and not by chance."""
    past = past_on(session, project.id, context, MOST_RUNS)[::-1]
    wanted = set(numbers)
    first = next((i for i, p in enumerate(past) if p.number in wanted), 0)
    past = past[max(0, first - BEFORE) : first + len(numbers)]
    number = {p.id: p.number for p in past}
    found: dict[int, set[int]] = {}
    for (run, _, _), tests in breaks_in(session, project, list(number)).items():
        found.setdefault(number[run], set()).update(tests)
    return np.array([len(found.get(n, ())) for n in numbers], np.float64)


def _rows(now: _Part, before: _Part) -> list[ReportRow | None]:
    return [
        _row("Runs judged", (f"{now.side.runs:,}", f"{before.side.runs:,}")),
        _held(now.side, before.side),
        _medians("Time to the verdict, median", "to_verdict", now, before, duration),
        _medians("Until the first cell starts, median", "waited", now, before, duration),
        _repaired(now, before),
        _sums("Tests that broke", "broke", now, before),
        _newest("Tests, in the newest run", "tests", now, before, lambda v: f"{v:,.0f}"),
        _covered(now, before),
        _row("Time of runners", (duration(60 * now.minutes), duration(60 * before.minutes))),
    ]


def _row(title: str, texts: Sequence[str], better: bool | None = None, said: str = "") -> ReportRow:
    now, before = texts
    return ReportRow(title, now, before, better, said)


def _held(now: Side, before: Side) -> ReportRow:
    texts = [f"{s.held:,} ({100 * s.held / s.runs:.0f} %)" if s.runs else "none judged" for s in (now, before)]
    better, said = None, ""
    if now.runs and before.runs:
        from scipy import stats  # here: it takes a second to load, and is seldom asked

        table = [[now.held, now.runs - now.held], [before.held, before.runs - before.held]]
        sure = bool(stats.fisher_exact(table).pvalue < CHANCE)
        better = now.held / now.runs < before.held / before.runs if sure else None
        said = "more than chance" if sure else "no more than chance" if now.held or before.held else ""
    return _row("Held", texts, better, said)


def _medians(title: str, name: str, now: _Part, before: _Part, written: Callable[[float], str]) -> ReportRow | None:
    sides = [part.values[name][np.isfinite(part.values[name])] for part in (now, before)]
    if not len(sides[0]) and not len(sides[1]):
        return None
    texts = [written(float(np.median(v))) if len(v) else "not known" for v in sides]
    better, said = None, ""
    if len(sides[0]) and len(sides[1]):
        from scipy import stats

        sure = bool(stats.mannwhitneyu(*sides).pvalue < CHANCE) if np.ptp(np.concatenate(sides)) > 0 else False
        here, there = (float(np.median(side)) for side in sides)
        much = abs(here - there) >= LEAST * there
        better = here < there if sure and much else None
        said = "more than chance" if better is not None else "little" if sure else "no more than chance"
    return _row(title, texts, better, said)


def _repaired(now: _Part, before: _Part) -> ReportRow | None:
    times = [repair_of(part.runs) for part in (now, before)]
    if times == [None, None]:
        return None
    return _row("Clear again after, median", [duration(t) if t is not None else "–" for t in times])


def _sums(title: str, name: str, now: _Part, before: _Part) -> ReportRow:
    return _row(title, [f"{part.values[name].sum():,.0f}" for part in (now, before)])


def _newest(title: str, name: str, now: _Part, before: _Part, written: Callable[[float], str]) -> ReportRow | None:
    texts = []
    for part in (now, before):
        known = part.values[name][np.isfinite(part.values[name])]
        texts.append(written(float(known[-1])) if len(known) else "not known")
    return _row(title, texts) if set(texts) != {"not known"} else None


def _covered(now: _Part, before: _Part) -> ReportRow | None:
    """Coverage is no matter of chance: what differs by a point is told."""
    row = _newest("Lines covered, in the newest run", "coverage", now, before, lambda v: f"{v:.1f} %")
    known = [v[np.isfinite(v)] for v in (now.values["coverage"], before.values["coverage"])]
    if row is None or not len(known[0]) or not len(known[1]):
        return row
    points = float(known[0][-1] - known[1][-1])
    said = f"{abs(points):.1f} points {'more' if points > 0 else 'less'}"
    return replace(row, better=points > 0, said=said) if abs(points) >= POINTS else row


def _said(now: Side, before: Side, over: str, rows: list[ReportRow]) -> str:
    """The health of the branch in one sentence."""
    if not now.runs:
        return f"Nothing was judged on {now.branch} {over}."
    told = f"{now.branch}: {counted(now.runs, 'run')} {over}, {now.held} of them held"
    if not before.runs:
        return f"{told}; there is nothing to compare that with."
    sure = [r for r in rows if r.better is not None]
    if not sure:
        return f"{told}; neither how often that is nor its times differ by much."
    parts = [
        f"{r.title[:1].lower()}{r.title[1:]} {'better' if r.better else 'worse'} ({r.now}, was {r.before})"
        for r in sure
    ]
    return f"{told}; {', '.join(parts)}."
