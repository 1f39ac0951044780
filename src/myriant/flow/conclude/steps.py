"""Failed steps, explained by what is set aside now."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from myriant.core.states import TRUSTED
from myriant.flow.planning.aside import aside_in, unexplained_steps
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
        failed = (attempt.finish or {}).get("failed_steps", []) if attempt is not None else []
        if attempt is None or not failed or cell.state not in TRUSTED:
            continue
        if cell.reused is None and (changed is None or attempt.ended_at is None or changed < attempt.ended_at):
            continue
        now = unexplained_steps(site, session, run, cell, attempt.id, failed, aside_in(session, run, cell))
        if now != cell.counts.get("unexplained"):
            cell.counts = {**cell.counts, "unexplained": now}
