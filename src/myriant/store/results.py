"""Results: kept as packed segments and rows for what did not pass; asked by run, cell and test."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from psycopg import Connection
from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from myriant.core.results.identity import Identity, identity_key, list_digest
from myriant.core.results.model import Outcome
from myriant.core.results.packed import (
    SEGMENT,
    Durations,
    Outcomes,
    decode_durations,
    pack,
    result_at,
    unpack_outcomes,
)
from myriant.store.tables import Attempt, Cell, Failure, Project, Run, Segment, Test, TestList


@dataclass(frozen=True, slots=True)
class NotPassed:
    """One result that is not passed, as it is stored."""

    number: int
    outcome: Outcome
    message: str
    detail: str
    seconds: float | None


def test_numbers(session: Session, project_id: int, job: str, tests: list[Identity]) -> NDArray[np.int64]:
    """The project's numbers of these tests, in their order; unknown tests get the next numbers.

    A list that was seen before costs one read of its stored numbers.
    """
    digest = list_digest(job, tests)
    known = session.scalar(select(TestList.numbers).where(TestList.project_id == project_id, TestList.digest == digest))
    if known is not None:
        return np.frombuffer(known, "<i8")
    keys = [identity_key(job, test) for test in tests]
    # the project's row is the lock under which numbers are given
    next_test = session.scalar(select(Project.next_test).where(Project.id == project_id).with_for_update())
    assert next_test is not None
    found: dict[bytes, int] = {}
    for at in range(0, len(keys), 20_000):
        rows = session.execute(
            select(Test.key, Test.number).where(Test.project_id == project_id, Test.key.in_(keys[at : at + 20_000]))
        )
        found.update((row[0], row[1]) for row in rows)
    added: list[tuple[int, bytes, Identity]] = []
    for key, test in zip(keys, tests, strict=True):
        if key not in found:
            found[key] = next_test + len(added)
            added.append((found[key], key, test))
    if added:
        session.execute(update(Project).where(Project.id == project_id).values(next_test=next_test + len(added)))
        with (
            _psycopg(session).cursor() as cursor,
            cursor.copy("COPY test (project_id, number, key, job, kind, suite, class, name) FROM STDIN") as copy,
        ):
            for number, key, test in added:
                copy.write_row((project_id, number, key, job, *(_clean(part) for part in test)))
    numbers = np.array([found[key] for key in keys], "<i8")
    session.execute(insert(TestList).values(project_id=project_id, digest=digest, numbers=numbers.tobytes()))
    return numbers


def keep_results(
    session: Session,
    attempt_id: int,
    numbers: NDArray[np.int64],
    outcomes: Outcomes,
    seconds: Durations,
    not_passed: Sequence[NotPassed],
) -> None:
    """Store the results of an attempt that has none yet."""
    connection = _psycopg(session)
    with (
        connection.cursor() as cursor,
        cursor.copy("COPY segment (number, attempt_id, outcomes, durations) FROM STDIN (FORMAT BINARY)") as copy,
    ):
        copy.set_types(["int4", "int4", "bytea", "bytea"])
        for segment in pack(numbers, outcomes, seconds):
            copy.write_row((segment.number, attempt_id, segment.outcomes, segment.durations))
    if not not_passed:
        return
    with (
        connection.cursor() as cursor,
        cursor.copy("COPY failure (attempt_id, test, outcome, message, detail, seconds) FROM STDIN") as copy,
    ):
        for row in not_passed:
            copy.write_row(
                (attempt_id, row.number, int(row.outcome), _clean(row.message), _clean(row.detail), row.seconds)
            )


def outcomes_of(session: Session, attempts: Sequence[int]) -> dict[int, Outcomes]:
    """Outcomes of whole attempts, by attempt, indexed by the project's test numbers."""
    rows = session.execute(
        select(Segment.attempt_id, Segment.number, Segment.outcomes).where(Segment.attempt_id.in_(attempts))
    ).all()
    pieces: dict[int, list[tuple[int, Outcomes]]] = {a: [] for a in attempts}
    for attempt, number, packed in rows:
        pieces[attempt].append((number, unpack_outcomes(packed)))
    found = {}
    for attempt, segments in pieces.items():
        size = max((number * SEGMENT + len(part) for number, part in segments), default=0)
        whole = np.zeros(size, np.uint8)
        for number, part in segments:
            whole[number * SEGMENT : number * SEGMENT + len(part)] = part
        found[attempt] = whole
    return found


def failing_outcomes_of(session: Session, attempts: Sequence[int]) -> dict[int, Outcomes]:
    """As `outcomes_of`, but only failed and errored results are filled in."""
    rows = session.execute(
        select(Failure.attempt_id, Failure.test, Failure.outcome).where(
            Failure.attempt_id.in_(attempts), Failure.outcome.in_((Outcome.FAILED, Outcome.ERRORED))
        )
    ).all()
    found: dict[int, Outcomes] = {}
    for attempt in attempts:
        mine = [(test, outcome) for a, test, outcome in rows if a == attempt]
        array = np.zeros(max((test for test, _ in mine), default=-1) + 1, np.uint8)
        for test, outcome in mine:
            array[test] = outcome
        found[attempt] = array
    return found


@dataclass(frozen=True, slots=True)
class Shown:
    """A result that is not passed, with the words a person reads."""

    attempt_id: int
    number: int
    outcome: Outcome
    message: str
    detail: str
    seconds: float | None
    kind: str
    suite: str
    klass: str
    name: str


def all_not_passed(session: Session, project_id: int, attempts: Sequence[int], *, skipped: bool = False) -> list[Shown]:
    """Every result of these attempts that failed at least once, skipped ones only when asked for."""
    wanted = [Outcome.FAILED, Outcome.ERRORED, Outcome.FLAKY, *([Outcome.SKIPPED] if skipped else [])]
    rows = session.execute(
        select(
            Failure.attempt_id,
            Failure.test,
            Failure.outcome,
            Failure.message,
            Failure.detail,
            Failure.seconds,
            Test.kind,
            Test.suite,
            Test.klass,
            Test.name,
        )
        .join(Test, (Test.project_id == project_id) & (Test.number == Failure.test))
        .where(Failure.attempt_id.in_(attempts), Failure.outcome.in_(wanted))
        .order_by(Failure.test, Failure.attempt_id)
    ).all()
    return [Shown(r[0], r[1], Outcome(r[2]), r[3], r[4], r[5], r[6], r[7], r[8], r[9]) for r in rows]


def tests_numbered(session: Session, project_id: int, numbers: Sequence[int]) -> dict[int, Test]:
    rows = session.scalars(select(Test).where(Test.project_id == project_id, Test.number.in_(numbers)))
    return {test.number: test for test in rows}


@dataclass(frozen=True, slots=True)
class Past:
    """One test in one attempt of its history; `seconds` is NaN where none was given."""

    run: int
    cell: str
    outcome: Outcome
    seconds: float


def history_of_test(session: Session, project_id: int, number: int, runs: int = 300) -> list[Past]:
    """A test's outcomes and durations in every cell of the newest `runs` runs, oldest first."""
    rows = (
        _psycopg(session)
        .cursor(binary=True)
        .execute(
            """
            SELECT recent.number, cell.key, segment.outcomes, segment.durations
            FROM (SELECT id, number FROM run WHERE project_id = %s ORDER BY number DESC LIMIT %s) recent
            JOIN cell ON cell.run_id = recent.id
            JOIN segment ON segment.attempt_id = cell.attempt_id AND segment.number = %s
            ORDER BY recent.number, cell.position
            """,
            (project_id, runs, number // SEGMENT),
        )
    )
    at = number % SEGMENT
    found = [(run, cell, *result_at(outcomes, durations, at)) for run, cell, outcomes, durations in rows]
    seconds = decode_durations(np.array([code for *_, code in found], np.uint16)).tolist()
    return [
        Past(run, cell, Outcome(outcome), duration)
        for (run, cell, outcome, _), duration in zip(found, seconds, strict=True)
        if outcome != Outcome.ABSENT
    ]


def trusted_attempts(session: Session, run: Run) -> dict[tuple[str, str], int]:
    """By job and cell key, the newest attempt of each non-advisory cell when its result can be trusted."""
    rows = session.execute(
        select(Cell.job, Cell.key, Attempt.id)
        .join(Attempt, Attempt.id == Cell.attempt_id)
        .where(Cell.run_id == run.id, ~Cell.advisory, Attempt.state.in_(("passed", "failed")))
    ).all()
    return {(job, key): attempt for job, key, attempt in rows}


def earlier_attempts(session: Session, run: Run) -> dict[tuple[str, str], list[int]]:
    """By job and cell key, earlier attempts of the run's own cells whose result could be trusted."""
    rows = session.execute(
        select(Cell.job, Cell.key, Attempt.id)
        .join(Attempt, (Attempt.cell_id == Cell.id) & (Attempt.id != Cell.attempt_id))
        .where(Cell.run_id == run.id, Cell.reused.is_(None), ~Cell.advisory, Attempt.number > 0)
        .where(Attempt.state.in_(("passed", "failed")))
    ).all()
    found: dict[tuple[str, str], list[int]] = {}
    for job, key, attempt in rows:
        found.setdefault((job, key), []).append(attempt)
    return found


def _psycopg(session: Session) -> Connection:
    connection = session.connection().connection.driver_connection
    assert isinstance(connection, Connection)
    return connection


def _clean(value: str) -> str:
    """PostgreSQL keeps no zero bytes and no lone surrogates in texts."""
    return value.replace("\0", "\N{SYMBOL FOR NULL}").encode("utf-8", "replace").decode("utf-8")
