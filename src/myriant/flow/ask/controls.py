"""What control runs say: the change, the world or chance."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import CellName
from myriant.core.results.model import Outcome
from myriant.core.results.packed import Outcomes
from myriant.core.states import ControlState, Place
from myriant.store.controls import controls_of_run
from myriant.store.results import outcomes_of
from myriant.store.tables import Run

_BAD = (Outcome.FAILED, Outcome.ERRORED)


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
    session: Session, controls: Sequence[ControlView], failed: Mapping[CellName, Collection[int]]
) -> dict[int, str]:
    """By test that failed in some cells, what the control runs of those cells say of it.

    "change" (the baseline passes today, or lacks it), "world" (it fails too) or "chance" (it passed here; one cell
    that says so is enough). A test without an answer yet is left out.
    """
    done = {
        (c.job, c.key, c.place): c.attempt_id
        for c in controls
        if c.state == ControlState.DONE and c.attempt_id is not None
    }
    outcomes = outcomes_of(session, list(done.values()))
    found: dict[int, str] = {}
    for (job, key, place), attempt in done.items():
        if place != Place.HERE:
            continue
        base = outcomes.get(done.get((job, key, Place.BASELINE), -1))
        for test in failed.get((job, key), ()):
            here = _outcome(outcomes[attempt], test)
            if here in (Outcome.PASSED, Outcome.FLAKY):
                found[test] = "chance"
            elif here in _BAD and base is not None and found.get(test) != "chance":
                there = _outcome(base, test)
                if there in _BAD:
                    found[test] = "world"
                elif there in (Outcome.PASSED, Outcome.ABSENT):
                    found[test] = "change"
    return found


def _outcome(outcomes: Outcomes, test: int) -> int:
    return int(outcomes[test]) if test < len(outcomes) else Outcome.ABSENT
