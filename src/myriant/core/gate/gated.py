"""How the jobs behind the verdict stand, in words; they never change it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

from myriant.core.states import State, Why

_WAITS = (Why.GATED, Why.APPROVAL, Why.AFTER)
_WORST = (State.FAILED, State.VOID, State.STOPPED, State.SKIPPED, State.PASSED)


class GatedCell(Protocol):
    job: str
    housekeeping: bool
    selected: bool
    advisory: bool
    state: State
    why: Why
    reason: str


def said_of_gated(cells: Sequence[GatedCell]) -> str:
    """For example: Then publish waits for an approval by release. Housekeeping: sweep passed."""
    parts = []
    for begin, mine in (("Then ", False), ("Housekeeping: ", True)):
        jobs = dict.fromkeys(c.job for c in cells if c.housekeeping is mine)
        said = [_of_job(job, [c for c in cells if c.job == job and c.selected]) for job in jobs]
        parts += [f"{begin}{'; '.join(said)}."] if said else []
    return " ".join(parts)


def _of_job(job: str, mine: Sequence[GatedCell]) -> str:
    states = {c.state for c in mine if not c.advisory} or {c.state for c in mine}
    told = next((c for c in mine if c.reason), None)
    if State.RUNNING in states:
        return f"{job} runs"
    if State.WAITING in states:
        return f"{job} {told.reason}" if told is not None and told.why in _WAITS[:2] else f"{job} waits"
    if states == {State.PASSED}:
        return f"{job} passed"
    state = next((s for s in _WORST if s in states), State.SKIPPED)
    how = {State.FAILED: "failed", State.VOID: "is void"}.get(state, f"was {state}")
    return f"{job} {how}" + (f": {told.reason}" if told is not None else "")
