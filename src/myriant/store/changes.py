"""What browsers are told: numbered changes, and a bell for waiting runners."""

from __future__ import annotations

from datetime import timedelta

from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import Session

from myriant.store.raw import raw
from myriant.store.tables import Attempt, Change, Project, Run

CHANGES = "myriant_change"
CELLS = "myriant_cells"
_MOST_LATELY = 1000  # changes that are looked through
_REPLAY_SLACK = 100  # ids are given before commit, so a lower one may become visible later


_TELL = f"""
    WITH change AS (INSERT INTO change (kind, project, run) VALUES (%s, %s, %s) RETURNING id)
    SELECT pg_notify('{CHANGES}', change.id::text) FROM change
"""  # noqa: S608  # the channel's name is ours
_TELL_OF_ATTEMPT = f"""
    WITH change AS (
        INSERT INTO change (kind, project, run) SELECT %s, project.name, run.number
        FROM cell JOIN run ON run.id = cell.run_id JOIN project ON project.id = run.project_id
        WHERE cell.id = %s RETURNING id
    ) SELECT pg_notify('{CHANGES}', change.id::text) FROM change
"""  # noqa: S608  # the channel's name is ours
_RUNG = "rung"  # whether this session has woken the runners already


def tell(session: Session, kind: str, project: str | None = None, run: int | None = None) -> None:
    """Record a change; listeners hear of its id when the transaction commits."""
    raw(session).execute(_TELL, (kind, project, run))


def tell_of_run(session: Session, run: Run, kind: str = "run") -> None:
    """Record a change of a run."""
    tell(session, kind, session.get_one(Project, run.project_id).name, run.number)


def tell_of_attempt(session: Session, attempt: Attempt, kind: str) -> None:
    """Record a change of an attempt's run."""
    raw(session).execute(_TELL_OF_ATTEMPT, (kind, attempt.cell_id))


def ring_runners(session: Session) -> None:
    """Wake the runners that wait for a cell, once this transaction commits."""
    if not session.info.get(_RUNG):
        session.info[_RUNG] = True
        raw(session).execute(f"NOTIFY {CELLS}")


def changes_after(session: Session, last: int, limit: int = 500) -> list[Change]:
    """Changes since id `last`, a few earlier ones again for certainty; readers treat them as hints."""
    query = select(Change).where(Change.id > last - _REPLAY_SLACK).order_by(Change.id.desc()).limit(limit)
    return list(reversed(session.scalars(query).all()))


def changes_lately(session: Session, lately: timedelta) -> list[Change]:
    """The newest change of each thing within some time before now: what a page may have asked for just before it
    listened.
    """
    newest = select(func.max(Change.id)).scalar_subquery()
    query = select(Change).where(Change.id > newest - _MOST_LATELY, Change.at > func.now() - lately)
    query = query.ext(distinct_on(Change.kind, Change.project, Change.run))
    query = query.order_by(Change.kind, Change.project, Change.run, Change.id.desc())
    return sorted(session.scalars(query), key=lambda change: change.id)


def changes_by_id(session: Session, ids: list[int]) -> list[Change]:
    return list(session.scalars(select(Change).where(Change.id.in_(ids)).order_by(Change.id)))
