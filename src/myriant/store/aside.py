"""Questions about what steps did before: which tests their reports listed, how they ended when tests failed."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import numpy as np
from sqlalchemy import or_, select, update
from sqlalchemy.orm import Session

from myriant.core.results.identity import identity_key
from myriant.core.states import Why
from myriant.store.results import identity_of
from myriant.store.tables import Acceptance, Attempt, Cell, Quarantine, Run, Step, Test, TestList

_LOOKED_BACK = 200  # attempts of a job


def statuses_of_step(
    session: Session, project_id: int, job: str, step: str, but: str | None
) -> tuple[set[int], set[int]]:
    """Exit statuses, not zero, of a step in the newest attempts of a job: where failures in its reports held, and where
    its reports had none.

    An attempt whose failures were all set aside shows nothing: its status is what was to be explained. Neither do those
    of the tree `but`: what is to be explained is no witness of itself, whatever was said of it before.
    """
    newest = (
        select(Attempt.id, (Cell.why == Why.TESTS).label("held"))
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Cell.job == job, Run.tree.is_distinct_from(but))
        .order_by(Attempt.id.desc())
        .limit(_LOOKED_BACK)
        .subquery()
    )
    query = select(Step.exit_status, Step.failures > 0, newest.c.held).join(newest, newest.c.id == Step.attempt_id)
    rows = session.execute(query.where(Step.name == step, Step.exit_status != 0, Step.failures.is_not(None)).distinct())
    known = [(status, failed, held) for status, failed, held in rows if status is not None]
    return {s for s, failed, held in known if failed and held}, {s for s, failed, _ in known if not failed}


def has_set_aside(session: Session, project_id: int) -> bool:
    """Whether a project has quarantined tests, or has started from a day on which tests failed."""
    quarantined = select(Quarantine.id).where(Quarantine.project_id == project_id, Quarantine.ended_at.is_(None))
    started = select(Acceptance.id).where(Acceptance.project_id == project_id, Acceptance.kind == "start")
    return bool(session.scalar(select(or_(quarantined.exists(), started.exists()))))


def tests_of_step(session: Session, attempt_id: int, digest: bytes) -> list[int]:
    """The numbers of the tests in a list."""
    project = (
        select(Run.project_id)
        .join(Cell, Cell.run_id == Run.id)
        .join(Attempt, Attempt.cell_id == Cell.id)
        .where(Attempt.id == attempt_id)
        .scalar_subquery()
    )
    packed = session.scalar(select(TestList.numbers).where(TestList.project_id == project, TestList.digest == digest))
    return [] if packed is None else [int(n) for n in np.frombuffer(packed, "<i8")]


def keys_of_tests(session: Session, project_id: int, job: str, numbers: Collection[int]) -> list[str]:
    """The keys that tests have in a job, hexadecimal; whatever job they were first seen in."""
    if not numbers:
        return []
    tests = session.scalars(select(Test).where(Test.project_id == project_id, Test.number.in_(numbers)))
    return [identity_key(job, identity_of(test)).hex() for test in tests]


def keep_step_tests(session: Session, attempt_id: int, rows: Sequence[tuple[int, bytes, int]]) -> None:
    """By position: the list of tests in a step's reports, and how many of them failed."""
    for position, digest, failures in rows:
        session.execute(
            update(Step)
            .where(Step.attempt_id == attempt_id, Step.position == position)
            .values(tests=digest, failures=failures)
        )
