"""Questions about excused runs, and the runs whose results excuse them."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from sqlalchemy import cast, func, or_, select
from sqlalchemy.dialects.postgresql import JSONPATH
from sqlalchemy.orm import Session

from myriant.core.results.model import Outcome
from myriant.core.states import Verdict, Why
from myriant.store.records import as_json
from myriant.store.tables import Cell, Failure, JobResult, Project, Quarantine, Run, Waiver

_MOST = 500
_FAILING = (Outcome.FAILED, Outcome.ERRORED)


def excused_by(session: Session, grounds: Collection[int]) -> Sequence[Run]:
    """Runs with nothing to test whose jobs have their results from these runs, the newest first; locked."""
    if not grounds:
        return ()
    standing = select(JobResult.run_id).where(JobResult.baseline_id.in_(grounds))
    query = select(Run).where(Run.id.in_(standing), or_(Run.verdict == Verdict.EXEMPT, Run.why == Why.EXCUSED))
    return session.scalars(query.order_by(Run.id.desc()).limit(_MOST).with_for_update()).all()


def grounds_with_a_word(session: Session, project_id: int) -> Sequence[int]:
    """Ids of runs that excuse others, and are clear by a waiver or beside a quarantine."""
    excused = select(Run.id).where(
        Run.project_id == project_id, or_(Run.verdict == Verdict.EXEMPT, Run.why == Why.EXCUSED)
    )
    grounds = select(JobResult.baseline_id).where(JobResult.run_id.in_(excused), JobResult.baseline_id.is_not(None))
    by_word = or_(
        func.jsonb_path_exists(as_json(Run.judged), cast("$[*].waived ? (@ != null)", JSONPATH)),
        func.jsonb_path_exists(as_json(Run.measures), cast("$.aside[*]", JSONPATH)),
    )
    return session.scalars(
        select(Run.id).where(Run.id.in_(grounds), by_word).order_by(Run.id.desc()).limit(_MOST)
    ).all()


def projects_with_excuses(session: Session) -> Sequence[int]:
    """Ids of projects where a waiver or a quarantine was ever given, and some run is excused."""
    given = select(Waiver.project_id).union(select(Quarantine.project_id))
    excused = select(Run.project_id).where(or_(Run.verdict == Verdict.EXEMPT, Run.why == Why.EXCUSED))
    return session.scalars(select(Project.id).where(Project.id.in_(given), Project.id.in_(excused))).all()


def job_results_of_runs(session: Session, ids: Collection[int]) -> Sequence[JobResult]:
    return session.scalars(select(JobResult).where(JobResult.run_id.in_(ids))).all() if ids else ()


def failed_aside(session: Session, run_id: int, tests: Collection[int]) -> list[str]:
    """The jobs of a run in whose binding cells one of these tests failed."""
    query = select(Cell.job).join(Failure, Failure.attempt_id == Cell.attempt_id).distinct()
    query = query.where(Cell.run_id == run_id, ~Cell.advisory, Failure.test.in_(tests), Failure.outcome.in_(_FAILING))
    return list(session.scalars(query))
