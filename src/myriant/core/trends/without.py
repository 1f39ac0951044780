"""What a value of a dimension found that nothing else did, so what would be missed without it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from scipy import special

from myriant.core.trends.versions import CellTotal

CERTAINTY = 0.95


@dataclass(frozen=True, slots=True)
class Without:
    """What the past says of a job without one value of a dimension."""

    runs: int  # of the job in which the value ran
    breaks: int  # of these, runs in which some binding cell newly failed
    missed: list[int]  # of these, runs in which only binding cells with the value did
    at_most: float  # share of breaks that are its own, with 95 % certainty no more
    failed: list[int]  # runs in which an advisory cell with the value failed: binding, it would have been in the way
    seconds: float  # of runners, on cells with the value, in a run
    share: float  # of the job's seconds in the runs in which it ran


def without(cells: Iterable[CellTotal], job: str, dimension: str, value: str) -> Without:
    """Only runs in which the value ran say something of it: a sample that left it out proves nothing. The bound is
    the upper one of Clopper and Pearson (1934).
    """
    by_run: dict[int, list[CellTotal]] = {}
    for cell in cells:
        if cell.job == job:
            by_run.setdefault(cell.run, []).append(cell)
    runs = {run: mine for run, mine in by_run.items() if any(c.values.get(dimension) == value for c in mine)}
    breaks, missed, failed = 0, [], []
    own = total = 0.0
    for run, mine in sorted(runs.items()):
        with_it = [c for c in mine if c.values.get(dimension) == value]
        new = [c for c in mine if c.failed and not c.advisory]
        breaks += bool(new)
        if new and all(c.values.get(dimension) == value for c in new):
            missed.append(run)
        if any(c.failed and c.advisory for c in with_it):
            failed.append(run)
        own += sum(c.seconds for c in with_it)
        total += sum(c.seconds for c in mine)
    upper = float(special.betaincinv(len(missed) + 1, breaks - len(missed), CERTAINTY)) if breaks > len(missed) else 1.0
    return Without(
        len(runs), breaks, missed, upper, failed, own / len(runs) if runs else 0.0, own / total if total else 0.0
    )
