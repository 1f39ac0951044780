"""Cells that gave no result, or failed beside their tests."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from myriant.core.diagnosis.kinds import Kind, error_line, kind_of
from myriant.core.states import State
from myriant.flow.errors import NotFound
from myriant.flow.logs import log_piece
from myriant.flow.site import Site
from myriant.flow.views.findings.model import KindView, TroubledCell
from myriant.store.attempts import failing_status
from myriant.store.tables import Attempt, Cell

_TAIL = 64 * 1024


_MOST_TROUBLED = 12


def troubled_cells(site: Site, session: Session, cells: Sequence[Cell], rules: Sequence[Kind]) -> list[TroubledCell]:
    """What cells that are void, or failed beside their tests, say in their logs."""
    odd = [c for c in cells if c.state == State.VOID or (c.state == State.FAILED and c.counts.unexplained)]
    found = []
    for cell in odd[:_MOST_TROUBLED]:
        told, text, status = None, "", None
        if cell.attempt_id is not None:
            attempt = session.get_one(Attempt, cell.attempt_id)
            status = failing_status(session, attempt.id)
            try:
                tail, _, _ = log_piece(site, attempt.id, max(0, attempt.log_size - _TAIL), _TAIL)
            except (NotFound, FileNotFoundError):
                tail = b""
            text = tail.decode("utf-8", "replace")
            told = kind_of((cell.reason, text), status, rules)
        view = KindView(told.name, told.part, told.say, told.line) if told else None
        line = error_line(text) if view is None and status else ""  # of steps that ended well it says nothing
        found.append(TroubledCell(cell.job, cell.key, view, line))
    return found
