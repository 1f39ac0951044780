"""Results: kept as packed segments and rows for what did not pass; asked by run, cell and test."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import or_, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, aliased

from myriant.core.results.identity import Identity, identity_key, lineage_digest
from myriant.core.results.model import Outcome
from myriant.core.results.packed import (
    SEGMENT,
    Durations,
    Outcomes,
    decode_durations,
    pack,
    result_at,
    unpack_outcomes_into,
)
from myriant.core.states import TRUSTED
from myriant.store.raw import raw
from myriant.store.tables import Attempt, Cell, Failure, Project, Run, Test, TestList

_OUTCOMES = tuple(Outcome)
_FEW = 20_000  # tests that are asked for by their numbers


@dataclass(frozen=True, slots=True)
class NotPassed:
    """One result that is not passed, as it is stored."""

    number: int
    outcome: Outcome
    message: str
    detail: str
    seconds: float | None
    signature: str = ""
    extra: Mapping[str, Any] = field(default_factory=dict)


def test_numbers(
    session: Session, project_id: int, job: str, tests: list[Identity], formerly: Sequence[str] = ()
) -> NDArray[np.int64]:
    """The project's numbers of these tests, in their order; unknown tests get the next numbers.

    A test that the job had under one of its former names is the same test; what it has under its own name goes first,
    so that the line that names a former one changes no test. A list that was seen before costs one read of its stored
    numbers.
    """
    digest = lineage_digest((job, *formerly), tests)
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
    new = [at for at, key in enumerate(keys) if key not in found] if formerly else []
    if new:
        as_before = numbers_under(session, project_id, formerly, [tests[at] for at in new])
        found |= {keys[at]: max(known_as) for at in new if (known_as := as_before.get(tests[at]))}
    added: list[tuple[int, bytes, Identity]] = []
    for key, test in zip(keys, tests, strict=True):
        if key not in found:
            found[key] = next_test + len(added)
            added.append((found[key], key, test))
    if added:
        session.execute(update(Project).where(Project.id == project_id).values(next_test=next_test + len(added)))
        with (
            raw(session).cursor() as cursor,
            cursor.copy("COPY test (project_id, number, key, job, kind, suite, class, name) FROM STDIN") as copy,
        ):
            for number, key, test in added:
                copy.write_row((project_id, number, key, job, *(_clean(part) for part in test)))
    numbers = np.array([found[key] for key in keys], "<i8")
    kept = insert(TestList).values(project_id=project_id, digest=digest, numbers=numbers.tobytes())
    session.execute(kept.on_conflict_do_nothing())  # two cells may bring the same list at once
    return numbers


def numbers_under(
    session: Session, project_id: int, jobs: Sequence[str], tests: Iterable[Identity]
) -> dict[Identity, set[int]]:
    """By identity, the numbers that these tests have in any of these jobs."""
    owners = {identity_key(job, test): test for test in dict.fromkeys(tests) for job in jobs}
    keys, found = list(owners), dict[Identity, set[int]]()
    for at in range(0, len(keys), 20_000):
        query = select(Test.key, Test.number).where(Test.project_id == project_id, Test.key.in_(keys[at : at + 20_000]))
        for key, number in session.execute(query):
            found.setdefault(owners[key], set()).add(number)
    return found


def identity_of(test: Test) -> Identity:
    return test.kind, test.suite, test.klass, test.name


def numbers_of_kinds(session: Session, project_id: int, kinds: Sequence[str]) -> NDArray[np.int64]:
    """The numbers of the tests of some kinds."""
    query = select(Test.number).where(Test.project_id == project_id, Test.kind.in_(kinds))
    return np.array(session.scalars(query).all(), np.int64)


def keep_results(
    session: Session,
    attempt_id: int,
    numbers: NDArray[np.int64],
    outcomes: Outcomes,
    seconds: Durations,
    not_passed: Sequence[NotPassed],
) -> None:
    """Store the results of an attempt that has none yet."""
    connection = raw(session)
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
        cursor.copy(
            "COPY failure (attempt_id, test, outcome, message, detail, seconds, signature, extra) FROM STDIN"
        ) as copy,
    ):
        for row in not_passed:
            copy.write_row(
                (
                    attempt_id,
                    row.number,
                    int(row.outcome),
                    _clean(row.message),
                    _clean(row.detail),
                    row.seconds,
                    row.signature,
                    json.dumps(_clean_all(row.extra)),
                )
            )


def outcomes_of(session: Session, attempts: Sequence[int]) -> dict[int, Outcomes]:
    """Outcomes of whole attempts, by attempt, indexed by the project's test numbers."""
    rows = (
        raw(session)
        .cursor(binary=True)
        .execute("SELECT attempt_id, number, outcomes FROM segment WHERE attempt_id = ANY(%s)", (list(attempts),))
        .fetchall()
    )
    wide = (max((number for _, number, _ in rows), default=-1) + 1) * SEGMENT
    found = {attempt: np.zeros(wide, np.uint8) for attempt in attempts}
    ends = dict.fromkeys(attempts, 0)
    for attempt, number, packed in rows:
        end = unpack_outcomes_into(found[attempt], number * SEGMENT, packed)
        if end > ends[attempt]:
            ends[attempt] = end
    return {attempt: whole[: ends[attempt]] for attempt, whole in found.items()}


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
    signature: str
    extra: dict[str, Any]


def all_not_passed(session: Session, project_id: int, attempts: Sequence[int], *, skipped: bool = False) -> list[Shown]:
    """Every result of these attempts that failed at least once, skipped ones only when asked for."""
    wanted = [Outcome.FAILED, Outcome.ERRORED, Outcome.FLAKY, *([Outcome.SKIPPED] if skipped else [])]
    connection = raw(session)
    rows = connection.execute(
        """
        SELECT attempt_id, test, outcome, message, detail, seconds, signature, NULLIF(extra, '{}') FROM failure
        WHERE attempt_id = ANY(%s) AND outcome = ANY(%s) ORDER BY test, attempt_id
        """,
        (list(attempts), [int(o) for o in wanted]),
    ).fetchall()
    # names are looked up by themselves: joined, PostgreSQL reads every test of the project for a few thousand failures
    named = connection.execute(
        "SELECT number, kind, suite, class, name FROM test WHERE project_id = %s AND number = ANY(%s)",
        (project_id, sorted({r[1] for r in rows})),
    ).fetchall()
    names = {r[0]: (r[1], r[2], r[3], r[4]) for r in named}
    return [
        Shown(r[0], r[1], _OUTCOMES[r[2]], r[3], r[4], r[5], *names[r[1]], r[6], r[7] or {})
        for r in rows
        if r[1] in names
    ]


def tests_numbered(session: Session, project_id: int, numbers: Sequence[int]) -> dict[int, Test]:
    rows = session.scalars(select(Test).where(Test.project_id == project_id, Test.number.in_(numbers)))
    return {test.number: test for test in rows}


def tests_with_words(session: Session, project_id: int, words: Sequence[str]) -> Sequence[int]:
    """Numbers of tests in whose suite, class or name each of these lower-case words stands."""
    conditions = [Test.words.contains(word, autoescape=True) for word in words]
    return session.scalars(select(Test.number).where(Test.project_id == project_id, *conditions)).all()


class Place(NamedTuple):
    """Tests of one job, suite and class, by number."""

    job: str
    suite: str
    klass: str
    numbers: NDArray[np.int64]


_PLACES_OF_SOME = """
    SELECT job, suite, class, int4send(number) FROM test WHERE project_id = %s AND number = ANY(%s)
"""
_PLACES_BELOW = """
    SELECT job, suite, class, string_agg(int4send(number), ''::bytea) FROM test WHERE project_id = %s AND number < %s
    GROUP BY job, suite, class
"""


def places_of_tests(session: Session, project_id: int, wanted: NDArray[np.int64]) -> list[Place]:
    """Where tests stand. Asked for many, every place of the project is read, as one row each."""
    if not len(wanted):
        return []
    cursor = raw(session).cursor(binary=True)
    end = int(wanted.max()) + 1
    if len(wanted) <= _FEW:
        rows = cursor.execute(_PLACES_OF_SOME, (project_id, wanted.tolist())).fetchall()
    else:
        rows = cursor.execute(_PLACES_BELOW, (project_id, end)).fetchall()
    among: NDArray[np.bool_] = np.zeros(end, np.bool_)
    among[wanted] = True
    by_place: dict[tuple[str, str, str], list[bytes]] = {}
    for job, suite, klass, packed in rows:
        by_place.setdefault((job, suite, klass), []).append(packed)
    found = []
    for place, parts in by_place.items():
        numbers = np.sort(np.frombuffer(b"".join(parts), ">i4").astype(np.int64))
        numbers = numbers[among[numbers]]
        if len(numbers):
            found.append(Place(*place, numbers))
    return found


def words_of_tests(session: Session, project_id: int, numbers: Sequence[int]) -> set[str]:
    """Suites, classes and names of tests, in lower case."""
    rows = raw(session).execute(
        "SELECT words FROM test WHERE project_id = %s AND number = ANY(%s)", (project_id, list(numbers))
    )
    return {row[0] for row in rows}


@dataclass(frozen=True, slots=True)
class Past:
    """One test in one attempt of its history; `seconds` is NaN where none was given."""

    run: int
    cell: str
    outcome: Outcome
    seconds: float


def signatures_of_test(session: Session, test: int, attempts: Sequence[int]) -> dict[int, str]:
    """By attempt, those of these in which a test failed or errored: the signature of its failure."""
    query = select(Failure.attempt_id, Failure.signature).where(
        Failure.test == test,
        Failure.attempt_id.in_(attempts),
        Failure.outcome.in_((Outcome.FAILED, Outcome.ERRORED)),
    )
    return {row[0]: row[1] for row in session.execute(query)}


def history_of_test(session: Session, project_id: int, number: int, runs: int = 300) -> list[Past]:
    """A test's outcomes and durations in every cell of the newest `runs` runs, oldest first."""
    rows = (
        raw(session)
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
    found = [(run, cell, *result_at(outcomes, durations, at)) for run, cell, outcomes, durations in rows.fetchall()]
    seconds = decode_durations(np.array([code for *_, code in found], np.uint16)).tolist()
    return [
        Past(run, cell, _OUTCOMES[outcome], duration)
        for (run, cell, outcome, _), duration in zip(found, seconds, strict=True)
        if outcome
    ]


def trusted_attempts(session: Session, run: Run) -> dict[tuple[str, str], int]:
    """By job and cell key, the newest attempt of each non-advisory cell when its result can be trusted."""
    rows = session.execute(
        select(Cell.job, Cell.key, Attempt.id)
        .join(Attempt, Attempt.id == Cell.attempt_id)
        .where(Cell.run_id == run.id, ~Cell.advisory, Attempt.state.in_(TRUSTED))
    ).all()
    return {(job, key): attempt for job, key, attempt in rows}


def earlier_attempts(session: Session, run: Run) -> dict[tuple[str, str], list[int]]:
    """By job and cell key, earlier attempts of the same commit in the same context that could be trusted, in order.

    Those of the run's own cells, and those of earlier runs of the commit there: what failed in them is not undone by
    a run in which it is left out.
    """
    same = select(Run.id).where(
        Run.project_id == run.project_id,
        Run.commit == run.commit,
        Run.context == run.context,
        Run.number <= run.number,
        or_(Run.id == run.id, Run.context != ""),
    )
    now = (
        select(Cell.job, Cell.key, Cell.attempt_id)
        .where(Cell.run_id == run.id, Cell.reused.is_(None), ~Cell.advisory)
        .subquery()
    )
    rows = session.execute(
        select(Cell.job, Cell.key, Attempt.id)
        .join(Attempt, Attempt.cell_id == Cell.id)
        .join(now, (now.c.job == Cell.job) & (now.c.key == Cell.key))
        .where(Cell.run_id.in_(same), Attempt.id.is_distinct_from(now.c.attempt_id))
        .where(Attempt.number > 0, Attempt.state.in_(TRUSTED))
        .order_by(Attempt.id)
    ).all()
    found: dict[tuple[str, str], list[int]] = {}
    for job, key, attempt in [*rows, *_before_what_was_taken_over(session, run)]:
        found.setdefault((job, key), []).append(attempt)
    return found


def _before_what_was_taken_over(session: Session, run: Run) -> Sequence[tuple[str, str, int]]:
    """Of cells that took over an answer: the trusted attempts that came before it in the cell that gave it."""
    taken = aliased(Attempt)
    rows = session.execute(
        select(Cell.job, Cell.key, Attempt.id)
        .join(taken, taken.id == Cell.attempt_id)
        .join(Attempt, Attempt.cell_id == taken.cell_id)
        .where(Cell.run_id == run.id, Cell.reused.is_not(None), ~Cell.advisory)
        .where(Attempt.number > 0, Attempt.id < taken.id, Attempt.state.in_(TRUSTED))
        .order_by(Attempt.id)
    )
    return [(job, key, attempt) for job, key, attempt in rows]


def _clean_all(extra: Mapping[str, Any]) -> dict[str, Any]:
    return {
        k: _clean(v) if isinstance(v, str) else [_clean(x) for x in v] if isinstance(v, list) else v
        for k, v in extra.items()
    }


def _clean(value: str) -> str:
    """PostgreSQL keeps no zero bytes and no lone surrogates in texts."""
    return value.replace("\0", "\N{SYMBOL FOR NULL}").encode("utf-8", "replace").decode("utf-8")
