"""What control runs say: the change, the world, chance, or that it cannot be told yet."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import CellName, failing, sized
from myriant.core.diagnosis.control import Answer, Tries, answer
from myriant.core.diagnosis.explain import explain
from myriant.core.results.model import Outcome
from myriant.core.results.packed import Outcomes
from myriant.core.states import ControlState, Place
from myriant.flow.compare.outcomes import Compared
from myriant.flow.diagnose.flakes import values_of
from myriant.store.chance import attempts_failed, main_attempts, outcomes_of_tests
from myriant.store.controls import controls_of_run
from myriant.store.results import outcomes_of
from myriant.store.tables import Run

_BAD = (Outcome.FAILED, Outcome.ERRORED)
_RUNS = 30  # before this one, that a test's past is taken from
_MOST_TESTS = 2000  # whose past is looked at
_LONE = 2  # runs in a row in which a test fails that is soon well again


@dataclass(frozen=True, slots=True)
class ControlView:
    job: str
    key: str
    place: str  # here, baseline
    state: str
    attempt_id: int | None


def controls_of(session: Session, run: Run) -> list[ControlView]:
    rows = controls_of_run(session, run.id)
    return [ControlView(job, key, c.place, c.state, c.attempt_id) for c, job, key in rows]


def answers(
    session: Session,
    run: Run,
    compared: Compared,
    controls: Sequence[ControlView],
    failed: Mapping[CellName, Collection[int]],
) -> dict[int, Answer]:
    """By test that newly failed in some cells, what the control runs of those cells say of it.

    A test of which none has ended yet is left out.
    """
    done = [(c, c.attempt_id) for c in controls if c.state == ControlState.DONE and c.attempt_id is not None]
    outcomes = outcomes_of(session, [attempt for _, attempt in done])
    tries: dict[int, dict[str, Tries]] = {}
    absent: set[int] = set()
    for control, attempt in done:
        for test in failed.get((control.job, control.key), ()):
            told = tries.setdefault(test, {Place.HERE: Tries(), Place.BASELINE: Tries()})
            outcome = _outcome(outcomes[attempt], test)
            told[control.place] = _more(told[control.place], outcome)
            if control.place == Place.BASELINE and outcome == Outcome.ABSENT:
                absent.add(test)
    wanted = [test for test, told in tries.items() if told[Place.HERE].all or told[Place.BASELINE].all]
    past, random = _past(session, run, wanted)
    shapes = _Shapes(compared)
    cells: dict[int, str] = {}
    for (job, _), tests in failed.items():
        cells.update(dict.fromkeys(tests, job))
    found = {
        test: answer(
            tries[test][Place.HERE],
            tries[test][Place.BASELINE],
            *shapes.of(cells[test], test),
            past.get(test, Tries()),
            random.get(test, 0.0),
        )
        for test in wanted
    }
    return {test: replace(a, absent=test in absent and not a.baseline.all) for test, a in found.items()}


def _more(told: Tries, outcome: int) -> Tries:
    if outcome == Outcome.FLAKY:
        return Tries(told.passed + 1, told.failed + 1)
    if outcome == Outcome.PASSED:
        return Tries(told.passed + 1, told.failed)
    return Tries(told.passed, told.failed + 1) if outcome in _BAD else told


def _outcome(outcomes: Outcomes, test: int) -> int:
    return int(outcomes[test]) if test < len(outcomes) else Outcome.ABSENT


class _Shapes:
    """In how many cells of a run a test failed, and how many conditions explain which."""

    def __init__(self, compared: Compared) -> None:
        cells: dict[str, list[tuple[dict[str, str], Outcomes]]] = {}
        for (job, key), outcomes in compared.current.items():
            cells.setdefault(job, []).append((values_of(key), outcomes))
        self.jobs = {job: ([v for v, _ in those], _side_by_side([o for _, o in those])) for job, those in cells.items()}
        self.known: dict[tuple[str, bytes], tuple[Tries, int, int]] = {}

    def of(self, job: str, test: int) -> tuple[Tries, int, int]:
        values, outcomes = self.jobs.get(job, ([], np.zeros((0, 0), np.uint8)))
        here = outcomes[:, test] if test < outcomes.shape[1] else np.zeros(len(values), np.uint8)
        ran = (here != Outcome.ABSENT) & (here != Outcome.SKIPPED)
        bad = failing(here)[ran]
        shape = (job, (ran.astype(np.uint8) + failing(here)).tobytes())
        if shape not in self.known:
            those = [v for v, r in zip(values, ran.tolist(), strict=True) if r]
            parts = explain(those, bad.tolist()).parts
            every = {pair for v in those for pair in v.items()}
            self.known[shape] = (Tries(int((~bad).sum()), int(bad.sum())), parts, len(every))
        return self.known[shape]


def _side_by_side(cells: Sequence[Outcomes]) -> NDArray[np.uint8]:
    size = max(len(o) for o in cells)
    return np.stack([sized(o, size) for o in cells])


def _past(session: Session, run: Run, tests: Sequence[int]) -> tuple[dict[int, Tries], dict[int, float]]:
    """What each test gave in the newest runs of the main branch before this one, and how much it looks like chance."""
    asked = list(tests)[:_MOST_TESTS]
    runs = main_attempts(session, run.project_id, _RUNS, before=run.number)
    results = outcomes_of_tests(session, asked, list(runs))
    failures = attempts_failed(session, asked, list(runs))
    places = {number: i for i, number in enumerate(sorted(set(runs.values())))}
    past, random = {}, {}
    for test, told in results.items():
        every = sum(len(those) for _, those in told)
        bad = failures.get(test, ())
        past[test] = Tries(every - min(every, len(bad)), min(every, len(bad)))
        random[test] = 1 - 0.5 ** len(lone(sorted({places[runs[attempt]] for attempt in bad})))
    return past, random


def lone(places: Sequence[int]) -> list[int]:
    """Where a test failed in one run or two and was well in the next, of runs by their place in a row."""
    groups: list[list[int]] = []
    for place in places:
        if groups and place == groups[-1][-1] + 1:
            groups[-1].append(place)
        else:
            groups.append([place])
    return [g[0] for g in groups if len(g) <= _LONE]
