"""The predicted schedule: when each waiting cell starts, by list scheduling over the slots that can take it.

Cells are taken in their order, each by the slot that is free first among those that offer what it wants
(Graham's list scheduling, 1966); the dispatcher does the same, so the prediction errs only in durations.
"""

from __future__ import annotations

import heapq
from collections.abc import Collection, Hashable, Mapping, Sequence
from dataclasses import dataclass

USUAL_SECONDS = 60.0  # of a cell that never ran


@dataclass(frozen=True, slots=True)
class Slot:
    """Room for one cell: when it is free (seconds from now) and what it offers. Slots of one runner share `offers`."""

    free: float
    offers: frozenset[str]


@dataclass(frozen=True, slots=True)
class Waiting:
    """A cell that waits. `after` are groups whose cells must all end first; `at_once` limits its own group."""

    name: Hashable
    wants: Collection[str]
    seconds: float | None
    group: Hashable = None
    after: Sequence[Hashable] = ()
    at_once: int | None = None


def forecast(
    slots: Sequence[Slot], waiting: Sequence[Waiting], ends: Mapping[Hashable, Sequence[float]]
) -> dict[Hashable, float]:
    """Seconds until each cell starts, by name; a cell that no slot can take is left out.

    `ends` are the predicted ends of running cells by group, in seconds from now.
    """
    kinds: dict[frozenset[str], list[float]] = {}
    for slot in slots:
        kinds.setdefault(slot.offers, []).append(max(0.0, slot.free))
    for free in kinds.values():
        heapq.heapify(free)
    ending: dict[Hashable, list[float]] = {group: list(times) for group, times in ends.items()}
    open_groups = {w.group for w in waiting}
    able: dict[frozenset[str], list[frozenset[str]]] = {}
    starts: dict[Hashable, float] = {}
    left = list(waiting)
    while left:
        later = []
        for cell in left:
            if any(group in open_groups and group != cell.group for group in cell.after):
                later.append(cell)
                continue
            wants = frozenset(cell.wants)
            if wants not in able:
                able[wants] = [offers for offers in kinds if wants <= offers]
            fitting = [o for o in able[wants] if kinds[o]]
            if not fitting:
                continue
            kind = min(fitting, key=lambda offers: kinds[offers][0])
            ready = max((end for group in cell.after for end in ending.get(group, ())), default=0.0)
            if cell.at_once is not None and len(ending.get(cell.group, ())) >= cell.at_once:
                ready = max(ready, sorted(ending[cell.group])[-cell.at_once])
            start = max(heapq.heappop(kinds[kind]), ready)
            end = start + (USUAL_SECONDS if cell.seconds is None else cell.seconds)
            heapq.heappush(kinds[kind], end)
            ending.setdefault(cell.group, []).append(end)
            starts[cell.name] = start
        open_groups = {cell.group for cell in later}
        if len(later) == len(left):
            break
        left = later
    return starts
