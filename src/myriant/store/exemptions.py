"""Questions about excused runs, and the runs whose results excuse them."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime

from sqlalchemy import ColumnElement, cast, func, or_, select
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlalchemy.orm import Session

from myriant.core.results.model import Outcome
from myriant.core.states import Why
from myriant.store.records import as_json
from myriant.store.tables import Cell, Failure, JobResult, Quarantine, Run, Waiver

_MOST = 500
_FAILING = (Outcome.FAILED, Outcome.ERRORED)


def resting_on(session: Session, grounds: Collection[int]) -> Sequence[Run]:
    """Runs with a verdict that have results of these runs brought along, the newest first; locked."""
    if not grounds:
        return ()
    standing = select(JobResult.run_id).where(JobResult.baseline_id.in_(grounds), _is_brought_along())
    query = select(Run).where(Run.id.in_(standing), Run.ended_at.is_not(None))
    return session.scalars(query.order_by(Run.id.desc()).limit(_MOST).with_for_update()).all()


def _is_brought_along() -> ColumnElement[bool]:
    here = (Cell.run_id == JobResult.run_id) & (Cell.job == JobResult.job) & (Cell.why == Why.BROUGHT_ALONG)
    return select(Cell.id).where(here).exists()


def jobs_brought_along(session: Session, run_id: int) -> set[str]:
    query = select(Cell.job).where(Cell.run_id == run_id, Cell.why == Why.BROUGHT_ALONG).distinct()
    return set(session.scalars(query))


def grounds_with_a_word(session: Session, project_id: int) -> Sequence[int]:
    """Ids of runs that excuse jobs of the newest others, and are clear by a waiver or beside a quarantine."""
    newest = select(Run.id).where(Run.project_id == project_id).order_by(Run.id.desc()).limit(_MOST)
    grounds = select(JobResult.baseline_id).where(JobResult.run_id.in_(newest), JobResult.baseline_id.is_not(None))
    by_word = or_(
        func.jsonb_path_exists(as_json(Run.judged), cast("$[*].waived ? (@ != null)", JSONPATH)),
        func.jsonb_path_exists(as_json(Run.measures), cast("$.aside[*]", JSONPATH)),
    )
    query = select(Run.id).where(Run.id.in_(grounds.where(_is_brought_along())), by_word)
    return session.scalars(query.order_by(Run.id.desc())).all()


def projects_with_a_word_over(session: Session, since: datetime) -> set[int]:
    """Ids of projects of which a waiver or a quarantine has ended since a time."""
    found: set[int] = set()
    for table in (Waiver, Quarantine):
        over = or_(table.ended_at > since, table.until.between(since, func.now()))
        found |= set(session.scalars(select(table.project_id).where(over).distinct()))
    return found


def job_results_of_runs(session: Session, ids: Collection[int]) -> Sequence[JobResult]:
    return session.scalars(select(JobResult).where(JobResult.run_id.in_(ids))).all() if ids else ()


def failed_aside(session: Session, run_id: int, tests: Collection[int]) -> list[str]:
    """The jobs of a run in whose binding cells one of these tests failed."""
    query = select(Cell.job).join(Failure, Failure.attempt_id == Cell.attempt_id).distinct()
    query = query.where(Cell.run_id == run_id, ~Cell.advisory, Failure.test.in_(tests), Failure.outcome.in_(_FAILING))
    return list(session.scalars(query))
