"""Turns: in which order waiting cells are given to runners.

Turns are given by start-time fair queuing (Goyal, Vin, Cheng 1996): each project has a rank that grows with
what it was served, slower for events that people wait for; so one project's hundred cells do not keep another's
single one waiting. Within a run, cells that told most in the past come first.
"""

from __future__ import annotations

from collections.abc import Mapping

from myriant.core.matrix.forecast import USUAL_SECONDS
from myriant.core.plan.model import Plan
from myriant.core.states import EventKind

_SHARE = {EventKind.SCHEDULE: 4.0}  # how much more a cell of such an event counts


def cost(predicted: float | None, event: str) -> float:
    """What one cell adds to its project's rank: its predicted seconds, more for what nobody waits for."""
    return (predicted or USUAL_SECONDS) * _SHARE.get(EventKind(event), 1.0)


def chains(plan: Plan, seconds: Mapping[str, float]) -> dict[str, float]:
    """By job, the seconds of the longest chain of jobs that wait for it."""
    found: dict[str, float] = {}

    def of(job: str) -> float:
        if job not in found:
            found[job] = 0.0  # a cycle was refused when the plan was read
            behind = [j.id for j in plan.jobs if any(a.job == job for a in j.after)]
            found[job] = max((of(j) + seconds.get(j, 0.0) for j in behind), default=0.0)
        return found[job]

    for job in plan.jobs:
        of(job.id)
    return found
