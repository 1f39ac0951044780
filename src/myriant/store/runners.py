"""Questions about runners and about servers that answer them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import Row, delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.store.raw import raw
from myriant.store.tables import Runner, ServerBeat

IN_TOUCH = timedelta(seconds=60)  # a runner that was heard of so lately can be counted on


def runners_in_touch(session: Session) -> Sequence[Runner]:
    since = datetime.now(UTC) - IN_TOUCH
    return session.scalars(select(Runner).where(Runner.seen_at >= since).order_by(Runner.name)).all()


def all_runners(session: Session) -> Sequence[Runner]:
    return session.scalars(select(Runner).order_by(Runner.name)).all()


def offers_of_runners(session: Session) -> Sequence[Row[Any]]:
    """Name, offers, slots, why drained, runtimes, last contact and projects of every runner."""
    columns = Runner.name, Runner.offers, Runner.slots, Runner.drained, Runner.runtimes, Runner.seen_at, Runner.projects
    return session.execute(select(*columns).order_by(Runner.name)).all()


def runner_named(session: Session, name: str, *, lock: bool = False) -> Runner | None:
    query = select(Runner).where(Runner.name == name)
    return session.scalar(query.with_for_update() if lock else query)


def enrol_runner(session: Session, values: Mapping[str, Any]) -> int:
    """Keep what a runner says of itself, in place of what one of its name said before; its id."""
    statement = insert(Runner).values(**values)
    fresh = {**values, "seen_at": func.now()}
    runner_id: int | None = session.scalar(
        statement.on_conflict_do_update(index_elements=[Runner.name], set_=fresh).returning(Runner.id)
    )
    assert runner_id is not None
    return runner_id


def time_of_database(session: Session) -> datetime:
    now: datetime = session.execute(select(func.clock_timestamp())).scalar_one()
    return now


def forget_beats(session: Session, before: datetime) -> None:
    session.execute(delete(ServerBeat).where(ServerBeat.beat_at < before))


def is_answered(session: Session, since: timedelta, missed: timedelta) -> bool:
    """Whether some server has answered without a break for so long, the last time no more than `missed` ago."""
    now = func.clock_timestamp()
    answering = select(ServerBeat).where(ServerBeat.since < now - since, ServerBeat.beat_at > now - missed)
    return session.scalars(answering.limit(1)).first() is not None


def troubles_of(session: Session, runner_id: int) -> int:
    """How many attempts in a row went void because of a runner's machine."""
    row = raw(session).execute("SELECT troubles FROM runner WHERE id = %s", (runner_id,)).fetchone()
    return int(row[0]) if row is not None else 0
