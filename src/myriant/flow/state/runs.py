"""What a run may become."""

from __future__ import annotations

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.store.queue import defer
from myriant.store.tables import Run


def hold_untested(session: Session, run: Run, reason: str) -> None:
    """Held without a result that could be trusted: nothing ran."""
    run.state, run.verdict, run.reason = "void", "held", reason[:4000]
    run.sentence = f"Held: no trustworthy result; {reason[:1000]}."
    run.ended_at = func.now()
    defer(session, "announce", lock=f"notes-{run.project_id}", run_id=run.id)
