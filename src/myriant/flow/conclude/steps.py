"""Failed steps, explained by what is set aside now."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.states import TRUSTED
from myriant.flow.compare.aside import aside_in, unexplained_steps
from myriant.flow.site import Site
from myriant.store.attempts import attempts_of
from myriant.store.history import quarantines_changed
from myriant.store.tables import Cell, Run


def explain_anew(site: Site, session: Session, run: Run, cells: Sequence[Cell]) -> None:
    """Look again at failed steps where something else may be set aside than when their attempt was read.

    That is so of results that were taken over, and where a quarantine began or ended since.
    """
    changed = quarantines_changed(session, run.project_id)
    attempts = attempts_of(session, cells)
    for cell in cells:
        attempt = attempts.get(cell.attempt_id or 0)
        failed = attempt.finish.failed_steps if attempt is not None and attempt.finish is not None else ()
        if attempt is None or not failed or cell.state not in TRUSTED:
            continue
        looked = cell.counts.explained  # here, after it was taken over or something changed
        asof = looked or (attempt.ended_at if cell.reused is None else None)
        if asof is not None and (changed is None or changed < asof):
            continue
        now = unexplained_steps(site, session, run, cell, attempt.id, failed, aside_in(session, run, cell))
        cell.counts = replace(cell.counts, unexplained=tuple(now), explained=datetime.now(UTC))
