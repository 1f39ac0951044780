"""What a control run may become."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.store.changes import tell
from myriant.store.queue import defer
from myriant.store.tables import Attempt, Control, Project, Run


def control_ended(session: Session, attempt: Attempt) -> None:
    """Note the end of an attempt that repeats a cell; a search whose try it was goes on."""
    control = session.scalar(select(Control).where(Control.attempt_id == attempt.id).with_for_update())
    if control is None:
        return
    control.state = "done" if attempt.state in ("passed", "failed") else "given-up"
    run = session.get_one(Run, control.run_id)
    tell(session, "run", session.get_one(Project, run.project_id).name, run.number)
    if control.search_id is not None:
        defer(session, "search", lock=f"search-{control.search_id}", search_id=control.search_id)
