"""What the newest runs say of chance: attempts with a result, what failed in them, what a test gave in each."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Integer, cast, func, or_, select
from sqlalchemy.orm import Session

from myriant.core.results.model import Outcome
from myriant.core.results.packed import SEGMENT, outcome_at
from myriant.core.states import TRUSTED, EventKind, Place
from myriant.store.raw import raw
from myriant.store.tables import Attempt, Cell, Control, Failure, Project, Run, Search

MOST_FAILURES = 200_000
MOST_DOUBTS = 20_000


@dataclass(frozen=True, slots=True)
class WithResult:
    """An attempt whose result can be trusted: its cell's own, a control run's, a try's of a search.

    `depth` is the place of its commit in the order of ancestry; `line` whether that is on the main branch.
    """

    id: int
    cell: int
    job: str
    key: str
    newest: bool  # of its cell
    line: bool
    place: str  # here, baseline or search for one that repeats a cell, else empty
    seconds: float
    commit: str
    depth: int
    runner: str
    hour: int  # of the day, UTC

    @property
    def own(self) -> bool:
        """Of the commit that its run tests."""
        return self.place in ("", Place.HERE)


def attempts_with_result(session: Session, project_id: int, runs: int) -> list[WithResult]:
    """Attempts of the newest runs in the order of ancestry, control runs of the same commit after their cell's own."""
    recent = select(Run).where(Run.project_id == project_id).order_by(Run.number.desc()).limit(runs).subquery()
    seconds = func.coalesce(func.extract("epoch", Attempt.ended_at - Attempt.created_at), 0.0)
    main = select(Project.main_branch).where(Project.id == project_id).scalar_subquery()
    tested = func.coalesce(recent.c.tested, recent.c.commit_id)
    hour = cast(func.extract("hour", func.timezone("UTC", Attempt.created_at)), Integer)
    rows = session.execute(
        select(
            Attempt.id,
            Cell.id,
            Cell.job,
            Cell.key,
            Attempt.id == Cell.attempt_id,
            (recent.c.branch == main) & (recent.c.event == EventKind.PUSH),
            Control.place,
            seconds,
            func.coalesce(Control.commit, tested),
            recent.c.depth,
            Attempt.runner,
            hour,
            Search.commits,
        )
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(recent, recent.c.id == Cell.run_id)
        .outerjoin(Control, Control.attempt_id == Attempt.id)
        .outerjoin(Search, Search.id == Control.search_id)
        .where(Attempt.state.in_(TRUSTED), or_(Attempt.number > 0, Control.id.is_not(None)))
        .order_by(recent.c.depth, recent.c.number, (Attempt.number < 0), Attempt.id)
    ).all()
    depths = {row[8]: row[9] for row in rows if row[5] and row[6] in (None, Place.HERE)}
    found = []
    for *known, depth, runner, hour_of_day, searched in rows:
        place, commit = known[6] or "", known[8]
        if place == Place.SEARCH and searched and commit in searched:
            depth -= len(searched) - 1 - searched.index(commit)
        elif place in (Place.SEARCH, Place.BASELINE):
            if commit not in depths:
                continue
            depth = depths[commit]
            known[5] = True
        attempt, cell, job, key, newest, line, _, took, _ = known
        found.append(
            WithResult(attempt, cell, job, key, newest, line, place, float(took), commit, depth, runner, hour_of_day)
        )
    return found


def main_attempts(session: Session, project_id: int, runs: int, before: int) -> dict[int, int]:
    """The newest attempts of all cells of the newest runs of the main branch before a run, with their runs' numbers.

    An attempt that several of these runs have, or that another branch's run made and main took over, stands with the
    oldest run of main that has it.
    """
    main = select(Project.main_branch).where(Project.id == project_id).scalar_subquery()
    recent = (
        select(Run.id, Run.number)
        .where(Run.project_id == project_id, Run.number < before, Run.branch == main, Run.event == EventKind.PUSH)
        .order_by(Run.number.desc())
        .limit(runs)
        .subquery()
    )
    query = select(Cell.attempt_id, func.min(recent.c.number)).join(recent, recent.c.id == Cell.run_id)
    rows = session.execute(query.where(Cell.attempt_id.is_not(None)).group_by(Cell.attempt_id))
    return {row[0]: row[1] for row in rows}


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


def attempts_failed(session: Session, tests: Sequence[int], attempts: Sequence[int]) -> dict[int, list[int]]:
    """By test, those of these attempts in which it failed or was flaky, in order."""
    query = (
        select(Failure.test, Failure.attempt_id)
        .where(Failure.attempt_id.in_(attempts), Failure.test.in_(tests), Failure.outcome != Outcome.SKIPPED)
        .order_by(Failure.attempt_id)
        .limit(MOST_FAILURES)
    )
    found: dict[int, list[int]] = {}
    for test, attempt in session.execute(query):
        found.setdefault(test, []).append(attempt)
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


def outcomes_of_tests(
    session: Session, tests: Sequence[int], attempts: Sequence[int]
) -> dict[int, list[tuple[int, list[int]]]]:
    """By test, its outcomes in these attempts where it ran: each distinct one with the attempts that have it.

    An outcome may come more than once.
    """
    by_segment: dict[int, list[int]] = {}
    for test in tests:
        by_segment.setdefault(test // SEGMENT, []).append(test)
    rows = raw(session).execute(
        """
        SELECT number, outcomes, array_agg(attempt_id) FROM segment
        WHERE attempt_id = ANY(%s) AND number = ANY(%s) GROUP BY 1, 2
        """,
        (list(attempts), list(by_segment)),
    )
    found: dict[int, list[tuple[int, list[int]]]] = {test: [] for test in tests}
    for number, outcomes, those in rows:
        for test in by_segment[number]:
            outcome = outcome_at(outcomes, test % SEGMENT)
            if outcome not in (Outcome.ABSENT, Outcome.SKIPPED):
                found[test].append((outcome, those))
    return found


def answers_in_cell(
    session: Session, project_id: int, job: str, key: str, commits: Sequence[str]
) -> list[tuple[int, str, datetime]]:
    """Trusted attempts of a cell on these commits, of runs, control runs and searches alike: id, commit, when."""
    commit = func.coalesce(Control.commit, Run.tested, Run.commit)
    rows = session.execute(
        select(Attempt.id, commit, Attempt.created_at)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .outerjoin(Control, Control.attempt_id == Attempt.id)
        .where(
            Run.project_id == project_id,
            Cell.job == job,
            Cell.key == key,
            Attempt.state.in_(TRUSTED),
            or_(Attempt.number > 0, Control.id.is_not(None)),
            commit.in_(list(commits)),
        )
        .order_by(Attempt.id)
    )
    return [(attempt, said, at) for attempt, said, at in rows]
