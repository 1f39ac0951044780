"""What browsers are told: numbered changes, and a bell for waiting runners."""

from __future__ import annotations

from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from myriant.store.tables import Attempt, Cell, Change, Project, Run

CHANGES = "myriant_change"
CELLS = "myriant_cells"
_REPLAY_SLACK = 100  # ids are given before commit, so a lower one may become visible later


_TELL = text(
    "WITH change AS (INSERT INTO change (kind, project, run) VALUES (:kind, :project, :run) RETURNING id) "
    "SELECT pg_notify(:channel, change.id::text) FROM change"
)


def tell(session: Session, kind: str, project: str | None = None, run: int | None = None) -> None:
    """Record a change; listeners hear of its id when the transaction commits."""
    session.execute(_TELL, {"channel": CHANGES, "kind": kind, "project": project, "run": run})


def tell_of_run(session: Session, run: Run, kind: str = "run") -> None:
    """Record a change of a run."""
    tell(session, kind, session.get_one(Project, run.project_id).name, run.number)


def tell_of_attempt(session: Session, attempt: Attempt, kind: str) -> None:
    """Record a change of an attempt's run."""
    query = select(Project.name, Run.number).join(Run, Run.project_id == Project.id).join(Cell, Cell.run_id == Run.id)
    project, number = session.execute(query.where(Cell.id == attempt.cell_id)).one()
    tell(session, kind, project, number)


def ring_runners(session: Session) -> None:
    """Wake the runners that wait for a cell."""
    session.execute(select(func.pg_notify(CELLS, "")))


def changes_after(session: Session, last: int, limit: int = 500) -> list[Change]:
    """Changes since id `last`, a few earlier ones again for certainty; readers treat them as hints."""
    query = select(Change).where(Change.id > last - _REPLAY_SLACK).order_by(Change.id.desc()).limit(limit)
    return list(reversed(session.scalars(query).all()))


def changes_by_id(session: Session, ids: list[int]) -> list[Change]:
    return list(session.scalars(select(Change).where(Change.id.in_(ids)).order_by(Change.id)))
