"""What the newest runs say of chance: attempts with a result, what failed in them, whether a test passed in one."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from myriant.core.results.model import Outcome
from myriant.core.results.packed import SEGMENT, outcome_at
from myriant.core.states import TRUSTED, EventKind, Place
from myriant.store.raw import raw
from myriant.store.tables import Attempt, Cell, Control, Failure, Project, Run

MOST_FAILURES = 200_000
MOST_DOUBTS = 20_000


@dataclass(frozen=True, slots=True)
class WithResult:
    """An attempt whose result can be trusted, its own or a control run's."""

    id: int
    cell: int
    job: str
    key: str
    newest: bool  # of its cell
    main: bool  # of a push to the main branch
    control: bool
    seconds: float


def attempts_with_result(session: Session, project_id: int, runs: int) -> list[WithResult]:
    """Attempts of the newest runs in the order of ancestry, control runs of the same commit after their cell's own."""
    recent = select(Run).where(Run.project_id == project_id).order_by(Run.number.desc()).limit(runs).subquery()
    seconds = func.coalesce(func.extract("epoch", Attempt.ended_at - Attempt.created_at), 0.0)
    main = select(Project.main_branch).where(Project.id == project_id).scalar_subquery()
    rows = session.execute(
        select(
            Attempt.id, Cell.id, Cell.job, Cell.key, Attempt.id == Cell.attempt_id,
            (recent.c.branch == main) & (recent.c.event == EventKind.PUSH), Attempt.number < 0, seconds,
        )
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(recent, recent.c.id == Cell.run_id)
        .outerjoin(Control, Control.attempt_id == Attempt.id)
        .where(Attempt.state.in_(TRUSTED), or_(Attempt.number > 0, Control.place == Place.HERE))
        .order_by(recent.c.depth, recent.c.number, (Attempt.number < 0), Attempt.id)
    )  # fmt: skip
    return [WithResult(*r[:7], float(r[7])) for r in rows]


def newest_attempts(session: Session, project_id: int, runs: int) -> list[int]:
    """The newest attempts of all cells of the newest runs."""
    recent = select(Run.id).where(Run.project_id == project_id).order_by(Run.number.desc()).limit(runs)
    return list(session.scalars(select(Cell.attempt_id).where(Cell.run_id.in_(recent), Cell.attempt_id.is_not(None))))


def failed_in(session: Session, attempts: Sequence[int], only: int | None = None) -> dict[int, dict[int, bool]]:
    """By attempt, the tests that failed in it (false), or both failed and passed within it (true)."""
    bad = (Outcome.FAILED, Outcome.ERRORED, Outcome.FLAKY)
    query = select(Failure.attempt_id, Failure.test, Failure.outcome == Outcome.FLAKY).where(
        Failure.attempt_id.in_(attempts), Failure.outcome.in_(bad)
    )
    if only is not None:
        query = query.where(Failure.test == only)
    found: dict[int, dict[int, bool]] = {}
    for attempt, test, flaky in session.execute(query.order_by(Failure.attempt_id.desc()).limit(MOST_FAILURES)):
        found.setdefault(attempt, {})[test] = flaky
    return found


def did_pass(session: Session, asked: Collection[tuple[int, int]]) -> set[tuple[int, int]]:
    """Which of these pairs of attempt and test are a result that passed."""
    pairs = sorted(asked)[:MOST_DOUBTS]
    places: dict[tuple[int, int], list[int]] = {}
    for attempt, test in pairs:
        places.setdefault((attempt, test // SEGMENT), []).append(test)
    rows = raw(session).execute(
        """
        SELECT s.attempt_id, s.number, s.outcomes
        FROM segment s JOIN unnest(%s::int[], %s::int[]) AS asked (attempt, number)
            ON s.attempt_id = asked.attempt AND s.number = asked.number
        """,
        ([a for a, _ in places], [n for _, n in places]),
    )
    return {
        (attempt, test)
        for attempt, number, outcomes in rows
        for test in places[(attempt, number)]
        if outcome_at(outcomes, test % SEGMENT) == Outcome.PASSED
    }


def results_of_tests(session: Session, tests: Sequence[int], attempts: Sequence[int]) -> dict[int, int]:
    """How many of these attempts have a result of each test, skipped ones apart."""
    by_segment: dict[int, list[int]] = {}
    for test in tests:
        by_segment.setdefault(test // SEGMENT, []).append(test)
    rows = raw(session).execute(
        "SELECT number, outcomes, count(*) FROM segment WHERE attempt_id = ANY(%s) AND number = ANY(%s) GROUP BY 1, 2",
        (list(attempts), list(by_segment)),
    )
    found: dict[int, int] = {}
    for number, outcomes, times in rows:
        for test in by_segment[number]:
            if outcome_at(outcomes, test % SEGMENT) not in (Outcome.ABSENT, Outcome.SKIPPED):
                found[test] = found.get(test, 0) + times
    return found
