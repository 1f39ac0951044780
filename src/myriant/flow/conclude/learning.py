"""What a project learns from run to run: tests that moved, quarantines that have served."""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import RunOutcomes
from myriant.core.diagnosis.flaky import is_steady
from myriant.core.results.model import Outcome
from myriant.core.results.moved import MOST_COMPARED, moved
from myriant.store.results import history_of_test, tests_numbered
from myriant.store.tables import MovedTest, Project, Quarantine, Run, Test


def learn_moves(session: Session, run: Run, current: RunOutcomes, baseline: RunOutcomes | None) -> int:
    """Recognise tests of the baseline that go by another name now, in the cells that both have; how many."""
    both = [name for name in current if baseline is not None and name in baseline]
    if baseline is None or not both:
        return 0
    now, before = _present([current[n] for n in both]), _present([baseline[n] for n in both])
    size = max(len(now), len(before))
    now, before = np.pad(now, (0, size - len(now))), np.pad(before, (0, size - len(before)))
    gone, new = np.flatnonzero(before & ~now).tolist(), np.flatnonzero(now & ~before).tolist()
    if not gone or not new or max(len(gone), len(new)) > MOST_COMPARED:
        return 0
    tests = tests_numbered(session, run.project_id, [*gone, *new])
    learned = 0
    for job in {t.job for t in tests.values()}:
        vanished = [n for n in gone if n in tests and tests[n].job == job]
        appeared = [n for n in new if n in tests and tests[n].job == job]
        for move in moved([_identity(tests[n]) for n in vanished], [_identity(tests[n]) for n in appeared]):
            row = {
                "project_id": run.project_id, "now": appeared[move.now], "before": vanished[move.before],
                "run": run.number, "because": move.because,
            }  # fmt: skip
            learned += session.execute(insert(MovedTest).values(row).on_conflict_do_nothing()).rowcount  # type: ignore[attr-defined]  # a cursor's result
    return learned


def _present(
    cells: list[np.ndarray[tuple[int, ...], np.dtype[np.uint8]]],
) -> np.ndarray[tuple[int, ...], np.dtype[np.bool_]]:
    found = np.zeros(max(len(c) for c in cells), np.bool_)
    for outcomes in cells:
        found[: len(outcomes)] |= outcomes != Outcome.ABSENT
    return found


def _identity(test: Test) -> tuple[str, str, str, str]:
    return test.kind, test.suite, test.klass, test.name


def settle_quarantines(session: Session, project: Project, run: Run) -> None:
    """End quarantines whose time is over, and those whose test has proved steady since on the main branch."""
    rows = session.scalars(
        select(Quarantine).where(Quarantine.project_id == project.id, Quarantine.ended_at.is_(None))
    ).all()
    for held in rows:
        if held.until <= datetime.now(UTC):
            held.ended_at, held.ended_why = func.now(), "its time was over"
        elif run.branch == project.main_branch:
            since = session.scalar(
                select(func.max(Run.number)).where(Run.project_id == project.id, Run.created_at <= held.at)
            )
            told = [p for p in history_of_test(session, project.id, held.test, 150) if p.run > (since or 0)]
            ran = [p for p in told if p.outcome is not Outcome.SKIPPED]
            odd = sum(p.outcome is not Outcome.PASSED for p in ran)
            if is_steady(odd, len(ran)):
                held.ended_at = func.now()
                held.ended_why = f"it proved steady: {len(ran)} results without a failure since it began"
