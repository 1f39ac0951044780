"""What earlier runs say: first and last sight of signatures, durations, flaky results, quarantine, moved tests."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import case, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.results.model import Outcome
from myriant.core.results.packed import SEGMENT, decode_durations, duration_codes, unpack_durations
from myriant.store.tables import Attempt, Cell, Failure, MovedTest, Project, Quarantine, Run, Segment


@dataclass(frozen=True, slots=True)
class Sight:
    """A run in which a signature was seen."""

    number: int
    commit: str
    at: datetime
    context: str


def sights_of(session: Session, project_id: int, signatures: Sequence[str]) -> dict[str, list[Sight]]:
    """By signature, the runs that saw it, oldest first."""
    rows = session.execute(
        select(Failure.signature, Run.number, Run.commit, Run.created_at, Run.context)
        .join(Attempt, Attempt.id == Failure.attempt_id)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Failure.signature.in_(signatures), Attempt.number > 0)
        .distinct()
        .order_by(Run.number)
    )
    found: dict[str, list[Sight]] = {}
    for signature, number, commit, at, context in rows:
        found.setdefault(signature, []).append(Sight(number, commit, at, context))
    return found


def last_failures_of(session: Session, project_id: int, tests: Sequence[int], before: int) -> dict[int, int]:
    """By test that failed in a run before the one numbered `before`, the newest such run."""
    rows = session.execute(
        select(Failure.test, func.max(Run.number))
        .join(Attempt, Attempt.id == Failure.attempt_id)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Failure.test.in_(tests), Run.number < before, Attempt.number > 0)
        .where(Failure.outcome.in_((Outcome.FAILED, Outcome.ERRORED)))
        .group_by(Failure.test)
    )
    return {row[0]: row[1] for row in rows}


def failures_of_tests(session: Session, project_id: int, tests: Sequence[int]) -> Sequence[tuple[str, str, int]]:
    """Signature, message and run of what these tests failed with of late, the newest first."""
    rows = session.execute(
        select(Failure.signature, Failure.message, Run.number)
        .join(Attempt, Attempt.id == Failure.attempt_id)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Failure.test.in_(tests), Failure.outcome != Outcome.SKIPPED)
        .where(Attempt.number > 0)
        .order_by(Run.number.desc())
        .limit(5000)
    )
    return rows.all()


def durations_of(session: Session, attempts: Sequence[int]) -> dict[int, NDArray[np.float64]]:
    """Seconds of whole attempts, by attempt, indexed by the project's test numbers; NaN where there is none."""
    rows = session.execute(
        select(Segment.attempt_id, Segment.number, Segment.durations).where(Segment.attempt_id.in_(attempts))
    ).all()
    sizes: dict[int, int] = {}
    for attempt, number, _ in rows:
        sizes[attempt] = max(sizes.get(attempt, 0), (number + 1) * SEGMENT)
    found = {attempt: np.full(sizes.get(attempt, 0), np.nan) for attempt in attempts}
    for attempt, number, packed in rows:
        part = unpack_durations(packed)
        found[attempt][number * SEGMENT : number * SEGMENT + len(part)] = part
    return found


def slowest_of(
    session: Session, attempts: Sequence[int], size: int, segments: Sequence[int] | None = None
) -> NDArray[np.float64]:
    """Seconds of each of `size` tests in its slowest of these attempts, NaN where there is none.

    Only some segments are looked at when they are given; elsewhere it is NaN.
    """
    query = select(Segment.number, Segment.durations).where(Segment.attempt_id.in_(attempts))
    if segments is not None:
        query = query.where(Segment.number.in_(segments))
    codes = np.zeros((size // SEGMENT + 1) * SEGMENT, np.uint16)
    for number, packed in session.execute(query):
        part = duration_codes(packed)
        here = codes[number * SEGMENT : number * SEGMENT + len(part)]
        np.maximum(here, part[: len(here)], out=here)
    return decode_durations(codes[:size])


def quarantined_tests(session: Session, project_id: int) -> dict[int, Quarantine]:
    """Quarantines in force, by test."""
    rows = session.scalars(
        select(Quarantine).where(
            Quarantine.project_id == project_id, Quarantine.ended_at.is_(None), Quarantine.until > func.now()
        )
    )
    return {held.test: held for held in rows}


def quarantines_changed(session: Session, project_id: int) -> datetime | None:
    """When a quarantine of a project last began or ended."""
    over = func.coalesce(Quarantine.ended_at, case((Quarantine.until <= func.now(), Quarantine.until)))
    query = select(func.max(func.greatest(Quarantine.at, over))).where(Quarantine.project_id == project_id)
    newest: datetime | None = session.scalar(query)
    return newest


def set_aside_at(session: Session, project_id: int, at: datetime) -> list[int]:
    """Tests that were in quarantine at a time."""
    ended = func.coalesce(Quarantine.ended_at, Quarantine.until)
    query = select(Quarantine.test).where(Quarantine.project_id == project_id, Quarantine.at <= at, ended > at)
    return list(session.scalars(query))


def open_quarantines(session: Session, project_id: int) -> Sequence[Quarantine]:
    query = select(Quarantine).where(Quarantine.project_id == project_id, Quarantine.ended_at.is_(None))
    return session.scalars(query.order_by(Quarantine.id)).all()


def ended_quarantines(session: Session, project_id: int, most: int) -> Sequence[Quarantine]:
    """The most lately ended ones."""
    query = select(Quarantine).where(Quarantine.project_id == project_id, Quarantine.ended_at.is_not(None))
    return session.scalars(query.order_by(Quarantine.ended_at.desc()).limit(most)).all()


def newest_number_at(session: Session, project_id: int, at: datetime) -> int | None:
    """The number of the newest run that there was at a time."""
    return session.scalar(select(func.max(Run.number)).where(Run.project_id == project_id, Run.created_at <= at))


def keep_moves(session: Session, rows: Sequence[dict[str, object]]) -> int:
    """Keep tests found under another name; how many are new."""
    if not rows:
        return 0
    kept = insert(MovedTest).values(rows).on_conflict_do_nothing().returning(MovedTest.now)
    return len(session.scalars(kept).all())


def moves_of(session: Session, project_id: int) -> dict[int, MovedTest]:
    """Tests that went by another number before, by their number now."""
    return {m.now: m for m in session.scalars(select(MovedTest).where(MovedTest.project_id == project_id))}


def numbers_through(moves: Mapping[int, MovedTest], number: int) -> list[int]:
    """The numbers a test had, newest first."""
    found = [number]
    while (move := moves.get(found[-1])) is not None and move.before not in found:
        found.append(move.before)
    return found


def begun_at(session: Session, project_id: int, depths: Sequence[int]) -> dict[int, int]:
    """By place in the order of ancestry, the number of the first run of the main branch there."""
    main = select(Project.main_branch).where(Project.id == project_id).scalar_subquery()
    query = (
        select(Run.depth, func.min(Run.number))
        .where(Run.project_id == project_id, Run.branch == main, Run.depth.in_(list(depths)))
        .group_by(Run.depth)
    )
    return {row[0]: row[1] for row in session.execute(query)}
