"""What is set aside in a cell: tests whose failures hold nothing, and how its steps end when tests fail."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import failing, renamed, without_failures
from myriant.core.gate.aside import NO_TEST, USUAL_STATUSES, StepResults, not_aside
from myriant.core.gate.less import counterparts
from myriant.core.plan.model import Job
from myriant.core.results.model import Outcome
from myriant.core.results.sarif import said_of
from myriant.core.states import TRUSTED
from myriant.core.written import step_called
from myriant.flow.compare.removed import gone_since
from myriant.flow.plans import names_of_jobs, plan_of_run
from myriant.flow.site import Site
from myriant.store.analysis import analysis_of
from myriant.store.aside import has_set_aside, statuses_of_step, tests_of_step
from myriant.store.attempts import steps_of
from myriant.store.cells import cells_of
from myriant.store.history import moves_of, quarantined_tests, set_aside_at
from myriant.store.judged import job_results_of
from myriant.store.results import outcomes_of
from myriant.store.tables import Cell, Project, Run


@dataclass(frozen=True, slots=True)
class Aside:
    """`tests` are numbers; `baseline` is the attempt, of the run `base`, that the cell is compared with, if any."""

    tests: frozenset[int]
    base: Run | None = None
    baseline: int | None = None
    moved: Mapping[int, int] = field(default_factory=dict)  # by the number before: the number now

    def expected(self, site: Site, session: Session, run: Run, step: str) -> set[int] | None:
        """The tests that the baseline lists for a step of this name; None when nothing is known of it.

        Those that were taken out of the sources since are not expected.
        """
        if self.baseline is None:
            return None
        found = [s for s in steps_of(session, self.baseline) if s.name == step and s.tests is not None]
        if not found:
            return None
        tests = {n for s in found for n in tests_of_step(session, self.baseline, s.tests or b"")}
        project = session.get_one(Project, run.project_id)
        tests -= gone_since(site, session, project, run, self.base, sorted(tests))
        return {self.moved.get(n, n) for n in tests}


def aside_in(session: Session, run: Run, cell: Cell) -> Aside:
    """What is set aside in a cell of a run: quarantined now, or known at its job's baseline."""
    tests = set(quarantined_tests(session, run.project_id))
    results = job_results_of(session, run.id).get(cell.job)
    base = session.get(Run, results.baseline_id) if results is not None and results.baseline_id else None
    if base is None:
        return Aside(frozenset(tests))
    there = [c for c in cells_of(session, base.id) if c.state in TRUSTED and c.attempt_id is not None]
    jobs = {c.job for c in there}
    names = names_of_jobs(session, run).get(cell.job, (cell.job,))
    known_as = next((name for name in names if name in jobs), cell.job)
    then = {(cell.job, c.key): c for c in there if c.job == known_as}
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
    return Aside(frozenset(tests), base, attempt, {before: now for now, before in proven})


def may_set_aside(session: Session, run: Run, job: Job) -> bool:
    """Whether anything can be set aside in a job of a run: cheap to ask, before the tests are looked up."""
    return bool(run.base) or job.retry.tests > 0 or has_set_aside(session, run.project_id)


def statuses_of(session: Session, run: Run, job: str, step: str) -> set[int]:
    """The exit statuses with which a step of a job ends when tests of it fail, by its newest attempts on other trees.

    One that came without a failing test as well says nothing of tests, unless it is the usual one.
    """
    with_failures, without = statuses_of_step(session, run.project_id, job, step, run.tree)
    return with_failures - (without - USUAL_STATUSES)


def unexplained_steps(
    site: Site,
    session: Session,
    run: Run,
    cell: Cell,
    attempt_id: int,
    failed: Sequence[int],
    aside: Aside,
    results: Mapping[int, StepResults[int]] | None = None,
) -> list[str]:
    """Steps of an attempt that failed while no failure that holds the run says why, each with the reason.

    `results` are what its reports hold, by step; without them they are read from what is kept.
    """
    if not failed:
        return []
    results = results if results is not None else results_of_steps(session, attempt_id)
    told = {s.position: s for s in steps_of(session, attempt_id)}
    found = []
    for position in failed:
        step = told.get(position)
        name = step.name if step is not None else f"step {position + 1}"
        status, mine = step.exit_status if step is not None else 1, results.get(position, StepResults((), (), ()))
        statuses = statuses_of(session, run, cell.job, name)
        why = not_aside(status, mine, aside.tests, statuses, None)
        if why == "":
            why = not_aside(status, mine, aside.tests, statuses, aside.expected(site, session, run, name))
        if why == NO_TEST and step is not None and step.reason:
            why = f"failed: {step.reason}"
        elif why == NO_TEST and (named := _analysis_of_step(session, run, cell, attempt_id, position)):
            why = f"{why}; its analysis names {named}"
        if why:
            found.append(f"{step_called(name)} {why}")
    return found


def _analysis_of_step(session: Session, run: Run, cell: Cell, attempt_id: int, position: int) -> str:
    """What the analysis of a step that collects some names, without saying that it is why the step failed."""
    plan = plan_of_run(session, run)
    job = plan.find(cell.job) if plan is not None else None
    if job is None or position >= len(job.steps) or not any(c.analysis for c in job.steps[position].collect):
        return ""
    return said_of(analysis_of(session, [attempt_id]))


def results_of_steps(session: Session, attempt_id: int) -> dict[int, StepResults[int]]:
    """What each step's reports hold, as it is kept."""
    outcomes = outcomes_of(session, [attempt_id])[attempt_id]
    found = {}
    for step in steps_of(session, attempt_id):
        listed = [n for n in tests_of_step(session, attempt_id, step.tests or b"") if n < len(outcomes)]
        by_outcome = {n: Outcome(int(outcomes[n])) for n in listed}
        found[step.position] = StepResults(
            {n for n, o in by_outcome.items() if o in (Outcome.FAILED, Outcome.ERRORED)},
            {n for n, o in by_outcome.items() if o is Outcome.FLAKY},
            {n for n, o in by_outcome.items() if o is not Outcome.ABSENT},
        )
    return found
