"""What is set aside in a cell: tests whose failures hold nothing, and how its steps end when tests fail."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import failing, renamed, without_failures
from myriant.core.gate.less import counterparts
from myriant.core.plan.model import Job
from myriant.core.states import TRUSTED
from myriant.store.aside import has_set_aside, statuses_with_failures, tests_of_step
from myriant.store.attempts import steps_of
from myriant.store.history import moves_of, quarantined_tests, set_aside_at
from myriant.store.judged import job_results_of
from myriant.store.results import outcomes_of
from myriant.store.runs import cells_of
from myriant.store.tables import Cell, Run


@dataclass(frozen=True, slots=True)
class Aside:
    """`tests` are numbers; `baseline` is the attempt that the cell is compared with, where there is one."""

    tests: frozenset[int]
    baseline: int | None = None
    moved: Mapping[int, int] = field(default_factory=dict)  # by the number before: the number now

    def expected(self, session: Session, step: str) -> set[int] | None:
        """The tests that the baseline lists for a step of this name; None when nothing is known of it."""
        if self.baseline is None:
            return None
        found = [s for s in steps_of(session, self.baseline) if s.name == step and s.tests is not None]
        if not found:
            return None
        tests = {n for s in found for n in tests_of_step(session, self.baseline, s.tests or b"")}
        return {self.moved.get(n, n) for n in tests}


def aside_in(session: Session, run: Run, cell: Cell) -> Aside:
    """What is set aside in a cell of a run: quarantined now, or known at its job's baseline."""
    tests = set(quarantined_tests(session, run.project_id))
    results = job_results_of(session, run.id).get(cell.job)
    base = session.get(Run, results.baseline_id) if results is not None and results.baseline_id else None
    if base is None:
        return Aside(frozenset(tests))
    then = {(cell.job, c.key): c for c in cells_of(session, base.id) if c.state in TRUSTED and c.attempt_id is not None}
    name = (cell.job, cell.key)
    pair = counterparts({name: cell.values}, {n: c.values for n, c in then.items()}).get(name)
    attempt = then[pair].attempt_id if pair is not None else None
    if attempt is None:
        return Aside(frozenset(tests))
    moves = moves_of(session, run.project_id)
    proven = [(m.now, m.before) for m in moves.values() if m.proven]
    outcomes = outcomes_of(session, [attempt])
    before = {name: outcomes[attempt]}
    if not run.base:
        before = dict(without_failures(before, set_aside_at(session, run.project_id, base.ended_at or base.created_at)))
    known = renamed(before, proven)[name]
    tests |= set(np.flatnonzero(failing(known)).tolist())
    return Aside(frozenset(tests), attempt, {m.before: m.now for m in moves.values()})


def may_set_aside(session: Session, run: Run, job: Job) -> bool:
    """Whether anything can be set aside in a job of a run: cheap to ask, before the tests are looked up."""
    return bool(run.base) or job.retry.tests > 0 or has_set_aside(session, run.project_id)


def statuses_of(session: Session, run: Run, job: str, step: str) -> set[int]:
    """The exit statuses with which a step of a job ended of late when tests of it failed."""
    return statuses_with_failures(session, run.project_id, job, step)
