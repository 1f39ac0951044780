"""Questions over many runs of a branch: totals, never results row by row."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any

from sqlalchemy import Integer, Select, case, cast, func, select
from sqlalchemy.orm import Session, aliased

from myriant.core.states import DECIDED, State
from myriant.store.tables import Attempt, Cell, CoverageTotal, Run

Row = tuple[
    int, int, str, str, str, str, datetime, datetime | None, datetime | None, Any, int | None, int | None, str
]  # fmt: skip


def totals_on(session: Session, project_id: int, context: str, most: int) -> Sequence[Row]:
    """Run, number, commit, title, author, verdict, times, jobs' measures, covered and valid lines; newest first."""
    covered = select(CoverageTotal.run_id, CoverageTotal.lines_covered, CoverageTotal.lines_valid)
    whole = covered.where(CoverageTotal.job == "", CoverageTotal.attempt_id.is_(None)).subquery()
    query = (
        select(
            Run.id, Run.number, Run.commit, Run.title, Run.author, Run.verdict, Run.created_at, Run.started_at,
            Run.ended_at, Run.measures["jobs"], whole.c.lines_covered, whole.c.lines_valid, Run.event,
        )
        .outerjoin(whole, whole.c.run_id == Run.id)
        .where(Run.project_id == project_id, Run.context == context, Run.verdict.in_(DECIDED))
        .order_by(Run.depth.desc(), Run.number.desc())
        .limit(most)
    )  # fmt: skip
    return session.execute(query).all()


def cell_totals(session: Session, runs: Sequence[int]) -> Sequence[tuple[int, str, str, Any, bool, int, float]]:
    """Run, job, key, values, advisory, new failures and seconds of each ended cell of these runs, reused ones apart.

    Of advisory cells nothing is compared: one that failed counts as one new failure.
    """
    seconds = func.extract("epoch", Attempt.ended_at - func.coalesce(Attempt.started_at, Attempt.created_at))
    new = case((Cell.advisory, cast(Cell.state == State.FAILED, Integer)), else_=Cell.counts["new"].as_integer())
    query = (
        select(
            Cell.run_id,
            Cell.job,
            Cell.key,
            Cell.values,
            Cell.advisory,
            func.coalesce(new, 0),
            func.coalesce(seconds, 0.0),
        )
        .join(Attempt, Attempt.id == Cell.attempt_id)
        .where(Cell.run_id.in_(runs), Cell.reused.is_(None), Attempt.ended_at.is_not(None))
    )
    return [(*row[:6], float(row[6])) for row in session.execute(query)]


def _judged(project_id: int) -> Select[Any]:
    base = aliased(Run)
    return (
        select(
            Run.id, Run.number, Run.title, Run.verdict, Run.measures["jobs"], Run.measures["coverage.changed"],
            Run.judged, Run.measures["seconds"].as_float(), Run.ended_at, base.number,
        )
        .outerjoin(base, base.id == Run.baseline_id)
        .where(Run.project_id == project_id, Run.verdict.in_(DECIDED))
    )  # fmt: skip


def judged_on(session: Session, project_id: int, context: str, most: int) -> Sequence[tuple[Any, ...]]:
    """Run, number, title, verdict, measures, rules as judged, seconds, end and baseline's number; newest first."""
    query = _judged(project_id).where(Run.context == context)
    return session.execute(query.order_by(Run.depth.desc(), Run.number.desc()).limit(most)).all()


def judged_numbered(session: Session, project_id: int, numbers: Collection[int]) -> Sequence[tuple[Any, ...]]:
    """The same of runs by their numbers."""
    return session.execute(_judged(project_id).where(Run.number.in_(numbers))).all()
