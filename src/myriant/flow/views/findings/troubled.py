"""What went wrong beside failing tests: cells without a result, and steps that failed; each cause once."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from myriant.core.diagnosis.kinds import Kind, error_line, kind_of
from myriant.core.diagnosis.signature import normalised
from myriant.core.states import State
from myriant.core.written import step_called
from myriant.flow.errors import NotFound
from myriant.flow.logs import log_piece
from myriant.flow.site import Site
from myriant.flow.views.findings.model import CellNamed, KindView, TroubledCells
from myriant.store.attempts import steps_of
from myriant.store.tables import Attempt, Cell, Step

_TAIL = 64 * 1024  # bytes of a failed step's log that are looked at
_MOST_LOGS = 60  # the cells of a job that failed with the same words say the same, most likely


def troubles_of(site: Site, session: Session, cells: Sequence[Cell], rules: Sequence[Kind]) -> list[TroubledCells]:
    """What cells that are void, or failed beside their tests, have in common, in the order of the plan."""
    odd = [c for c in cells if c.state == State.VOID or (c.state == State.FAILED and c.counts.unexplained)]
    of = {job: sum(c.job == job and c.selected for c in cells) for job in {c.job for c in odd}}
    found: dict[tuple[str, ...], TroubledCells] = {}
    heard: dict[tuple[str, str], tuple[KindView | None, str]] = {}
    for n, cell in enumerate(odd):
        said = "; ".join(cell.counts.unexplained) or cell.reason
        if n < _MOST_LOGS or (cell.job, said) not in heard:
            heard[cell.job, said] = _heard(site, session, cell, said, rules) if n < _MOST_LOGS else (None, "")
        told, line = heard[cell.job, said]
        cause = (cell.state, said, told.name if told else normalised(line))
        one = found.setdefault(cause, TroubledCells(cell.state, cell.mark, said, told, line, [], 0))
        one.cells.append(CellNamed(cell.job, cell.key))
    for one in found.values():
        one.of = sum(of[job] for job in {c.job for c in one.cells})
    return list(found.values())


def _heard(site: Site, session: Session, cell: Cell, said: str, rules: Sequence[Kind]) -> tuple[KindView | None, str]:
    """The kind of a cell's trouble, or the line of its failed step's log that says most plainly what went wrong.

    Steps that ended well say nothing of it, nor does what a step is called.
    """
    steps = steps_of(session, cell.attempt_id) if cell.attempt_id is not None else ()
    failed = [s for s in steps if s.state != State.PASSED and (s.exit_status or s.log_from is not None)]
    named = [s for s in failed if any(w.startswith(f"{step_called(s.name)} ") for w in cell.counts.unexplained)]
    bad = next(iter(named or failed), None)
    for step in steps:
        said = said.replace(step_called(step.name), "the step")
    text = _log_of(site, session, bad) if bad is not None else ""
    told = kind_of((said, text), bad.exit_status if bad is not None else None, rules)
    view = KindView(told.name, told.part, told.say, told.line) if told else None
    return view, error_line(text) if view is None else ""


def _log_of(site: Site, session: Session, step: Step) -> str:
    """The end of what a step wrote."""
    attempt = session.get_one(Attempt, step.attempt_id)
    start, end = step.log_from or 0, attempt.log_size if step.log_to is None else step.log_to
    start = max(start, end - _TAIL)
    try:
        return log_piece(site, attempt.id, start, end - start)[0].decode("utf-8", "replace")
    except (NotFound, FileNotFoundError):
        return ""
