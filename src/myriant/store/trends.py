"""Questions over many runs of a branch: totals, never results row by row."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Select, func, select
from sqlalchemy.orm import Session, aliased

from myriant.core.states import DECIDED, TRUSTED, State
from myriant.store.raw import raw
from myriant.store.records import as_json
from myriant.store.tables import Attempt, Cell, Run

TOTALS = ("new", "known", "fixed", "passed", "skipped", "flaky", "tests")  # tests by how they ended, over all jobs


class Past(NamedTuple):
    """A run of a branch, for what is told run by run."""

    id: int
    number: int
    commit: str
    title: str
    at: datetime


def past_on(session: Session, project_id: int, context: str, most: int) -> list[Past]:
    """The newest decided runs in a context, newest first."""
    rows = session.execute(
        select(Run.id, Run.number, Run.commit, Run.title, Run.created_at)
        .where(Run.project_id == project_id, Run.context == context, Run.verdict.in_(DECIDED))
        .order_by(Run.depth.desc(), Run.number.desc())
        .limit(most)
    )
    return [Past(*row) for row in rows]


@dataclass(frozen=True, slots=True)
class Series:
    """The decided runs of a context as columns of one length, the oldest first; times in seconds since 1970."""

    number: list[int]
    commit: list[str]
    title: list[str]
    author: list[str]
    verdict: list[str]
    made: NDArray[np.float64]
    started: NDArray[np.float64]  # NaN: no cell of it ran
    ended: NDArray[np.float64]
    rested: NDArray[np.float64]  # seconds between its verdicts in which nothing of it ran
    totals: NDArray[np.int64]  # runs × TOTALS
    covered: NDArray[np.float64]  # lines; NaN: no coverage
    valid: NDArray[np.float64]

    def at(self, places: Sequence[int]) -> Series:
        """Some of the runs, by their places."""
        rows = np.asarray(places, np.int64)
        return Series(
            [self.number[i] for i in places],
            [self.commit[i] for i in places],
            [self.title[i] for i in places],
            [self.author[i] for i in places],
            [self.verdict[i] for i in places],
            self.made[rows],
            self.started[rows],
            self.ended[rows],
            self.rested[rows],
            self.totals[rows],
            self.covered[rows],
            self.valid[rows],
        )


_SERIES = """
WITH newest AS (
  SELECT number, commit_id, title, author, verdict, date_part('epoch', created_at) AS created_at,
    date_part('epoch', started_at) AS started_at, date_part('epoch', ended_at) AS ended_at, rested,
    coalesce(totals, array_fill(0, ARRAY[7])) AS totals, lines_covered, lines_valid
  FROM run LEFT JOIN coverage_total AS c ON c.run_id = run.id AND c.job = '' AND c.attempt_id IS NULL
  WHERE project_id = %s AND context = %s AND verdict = ANY(%s) ORDER BY depth DESC, number DESC LIMIT %s
)
SELECT array_agg(number), array_agg(commit_id), array_agg(title), array_agg(author), array_agg(verdict),
  array_agg(created_at), array_agg(started_at), array_agg(ended_at), array_agg(rested), array_agg(totals),
  array_agg(lines_covered::float8), array_agg(lines_valid::float8)
FROM newest
"""


def series_on(session: Session, project_id: int, context: str, most: int) -> Series:
    """The newest decided runs in a context as columns."""
    with raw(session).cursor(binary=True) as cursor:
        row = cursor.execute(_SERIES, (project_id, context, [str(v) for v in DECIDED], most)).fetchone()
    number, commit, title, author, verdict, made, started, ended, rested, totals, covered, valid = (
        [] if column is None else column[::-1]  # the oldest first
        for column in (row or [None] * 12)
    )
    return Series(
        number,
        commit,
        title,
        author,
        verdict,
        _numbers(made),
        _numbers(started),
        _numbers(ended),
        _numbers(rested),
        np.array(totals, np.int64).reshape(len(number), len(TOTALS)),
        _numbers(covered),
        _numbers(valid),
    )


def _numbers(column: Sequence[float | None]) -> NDArray[np.float64]:
    return np.array(column, np.float64)  # None becomes NaN


def minutes_between(session: Session, project_id: int, context: str, since: datetime, until: datetime) -> float:
    """What all attempts of a context's decided runs of a time took on runners."""
    took = func.extract("epoch", Attempt.ended_at - func.coalesce(Attempt.started_at, Attempt.created_at))
    query = (
        select(func.coalesce(func.sum(func.greatest(took, 0)), 0.0) / 60.0)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(
            Run.project_id == project_id,
            Run.context == context,
            Run.verdict.in_(DECIDED),
            Run.created_at >= since,
            Run.created_at < until,
        )
    )
    return float(session.scalar(query) or 0.0)


def cell_totals(session: Session, runs: Sequence[int]) -> Sequence[tuple[int, str, str, Any, bool, float, bool]]:
    """Run, job, key, values, advisory, seconds and whether it failed, of each ended cell of these runs, reused ones
    apart.
    """
    seconds = func.extract("epoch", Attempt.ended_at - func.coalesce(Attempt.started_at, Attempt.created_at))
    query = (
        select(
            Cell.run_id,
            Cell.job,
            Cell.key,
            Cell.values,
            Cell.advisory,
            func.coalesce(seconds, 0.0),
            Cell.state == State.FAILED,
        )
        .join(Attempt, Attempt.id == Cell.attempt_id)
        .where(Cell.run_id.in_(runs), Cell.reused.is_(None), Attempt.ended_at.is_not(None))
    )
    return [(*row[:5], float(row[5]), row[6]) for row in session.execute(query)]


class CellJudged(NamedTuple):
    """A cell of a run whose results can be trusted, reused or not."""

    run: int
    job: str
    key: str
    failed: bool
    new: bool  # it has new failures
    attempt: int | None


def cells_judged(session: Session, runs: Sequence[int]) -> list[CellJudged]:
    """The binding cells of these runs whose results can be trusted."""
    new = func.coalesce(as_json(Cell.counts)["new"].as_integer(), 0) > 0
    query = select(Cell.run_id, Cell.job, Cell.key, Cell.state == State.FAILED, new, Cell.attempt_id).where(
        Cell.run_id.in_(runs), Cell.state.in_(TRUSTED), Cell.advisory.is_(False)
    )
    return [CellJudged(*row) for row in session.execute(query)]


def _judged(project_id: int) -> Select[Any]:
    base, measures = aliased(Run), as_json(Run.measures)
    return (
        select(
            Run.id,
            Run.number,
            Run.title,
            Run.verdict,
            measures["jobs"],
            measures["coverage.changed"],
            Run.judged,
            measures["seconds"].as_float(),
            Run.ended_at,
            base.number,
        )
        .outerjoin(base, base.id == Run.baseline_id)
        .where(Run.project_id == project_id, Run.verdict.in_(DECIDED))
    )


def judged_on(session: Session, project_id: int, context: str, most: int) -> Sequence[tuple[Any, ...]]:
    """Run, number, title, verdict, measures, rules as judged, seconds, end and baseline's number; newest first."""
    query = _judged(project_id).where(Run.context == context)
    return session.execute(query.order_by(Run.depth.desc(), Run.number.desc()).limit(most)).all()


def judged_numbered(session: Session, project_id: int, numbers: Collection[int]) -> Sequence[tuple[Any, ...]]:
    """The same of runs by their numbers."""
    return session.execute(_judged(project_id).where(Run.number.in_(numbers))).all()
