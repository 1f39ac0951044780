"""Questions about what failed in which run, and how cells ended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.results.model import Outcome
from myriant.core.states import DECIDED, State
from myriant.store.records import as_json
from myriant.store.tables import Attempt, Cell, Failure, Run

MOST_FAILURES = 300_000


@dataclass(frozen=True, slots=True)
class Decided:
    """A decided run: its id, number, commit, verdict, measures by job, and when it was made."""

    id: int
    number: int
    commit: str
    verdict: str
    jobs: dict[str, Any] | None
    at: datetime


def decided_on(session: Session, project_id: int, context: str, most: int) -> list[Decided]:
    """Decided runs of a context in the order of ancestry, the oldest of the newest so many first."""
    query = (
        select(Run.id, Run.number, Run.commit, Run.verdict, as_json(Run.measures)["jobs"], Run.created_at)
        .where(Run.project_id == project_id, Run.context == context, Run.verdict.in_(DECIDED))
        .order_by(Run.depth.desc(), Run.number.desc())
        .limit(most)
    )
    return [Decided(*row) for row in reversed(session.execute(query).all())]


def failing_in(session: Session, runs: Sequence[int]) -> dict[int, set[int]]:
    """By run, the tests that failed or errored in some cell that its verdict waits for."""
    query = (
        select(Cell.run_id, Failure.test)
        .join(Failure, Failure.attempt_id == Cell.attempt_id)
        .where(Cell.run_id.in_(runs), ~Cell.advisory, Failure.outcome.in_((Outcome.FAILED, Outcome.ERRORED)))
        .distinct()
        .limit(MOST_FAILURES)
    )
    found: dict[int, set[int]] = {}
    for run, test in session.execute(query):
        found.setdefault(run, set()).add(test)
    return found


def ends_of_cells(session: Session, runs: Sequence[int]) -> Sequence[tuple[str, str, int, float]]:
    """State and reason's code of cells that did not end well, how many, and the minutes they took; most first."""
    took = func.extract("epoch", Attempt.ended_at - func.coalesce(Attempt.started_at, Attempt.created_at))
    minutes = func.coalesce(func.sum(func.greatest(took, 0)), 0) / 60.0
    query = (
        select(Cell.state, Cell.why, func.count(), minutes)
        .join(Attempt, Attempt.id == Cell.attempt_id)
        .where(Cell.run_id.in_(runs), Cell.state.in_((State.FAILED, State.VOID)))
        .group_by(Cell.state, Cell.why)
        .order_by(func.count().desc())
    )
    return [(str(s), str(w), int(n), float(m)) for s, w, n, m in session.execute(query)]
