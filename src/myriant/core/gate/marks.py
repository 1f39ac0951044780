"""The one mark that says most about a cell."""

from __future__ import annotations

from myriant.core.diagnosis.compare import (
    CellComparison,
)


def mark_of(state: str, result: CellComparison, *, unexplained: bool, flaky: bool = False) -> str:
    """The one mark that says most about a cell."""
    if state not in ("passed", "failed"):
        return state
    if unexplained or (result.new.any() and not result.first_here):
        return "new"
    if result.new.any():
        return "first"
    if result.known.any():
        return "known"
    if result.quarantined.any():
        return "quarantined"
    if flaky:
        return "flaky"
    return "fixed" if result.fixed.any() else state
