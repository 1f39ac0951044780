"""The one mark that says most about a cell."""

from __future__ import annotations

from myriant.core.diagnosis.compare import CellComparison
from myriant.core.states import TRUSTED, Mark, State


def mark_of(state: State, result: CellComparison, *, unexplained: bool, flaky: bool = False) -> Mark:
    if state not in TRUSTED:
        return Mark(state)
    if unexplained or (result.new.any() and not result.first_here):
        return Mark.NEW
    if result.new.any():
        return Mark.FIRST
    if result.known.any():
        return Mark.KNOWN
    if result.quarantined.any():
        return Mark.QUARANTINED
    if flaky:
        return Mark.FLAKY
    if state is State.FAILED:
        return Mark.NEW
    return Mark.FIXED if result.fixed.any() else Mark.PASSED
