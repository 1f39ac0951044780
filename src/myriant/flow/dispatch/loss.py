"""Loss: leases of runners that are not heard of are taken back."""

from __future__ import annotations

from datetime import timedelta

from myriant.flow.site import Site
from myriant.flow.state.attempts import lose
from myriant.flow.state.leases import LEASE
from myriant.store.attempts import expired_leases
from myriant.store.runners import forget_beats, is_answered, time_of_database
from myriant.store.tables import ServerBeat

MISSED = timedelta(seconds=8)  # without a beat a server is taken to have been away


def beat(site: Site, server: str) -> None:
    """A server says that it answers. Beats that were interrupted, by whatever, begin a new stretch of service."""
    with site.store.transaction() as session:
        mine = session.get(ServerBeat, server, with_for_update=True)
        now = time_of_database(session)
        if mine is None:
            session.add(ServerBeat(server=server))
        else:
            mine.since = now if now - mine.beat_at > MISSED or now < mine.beat_at else mine.since
            mine.beat_at = now
        forget_beats(session, now - timedelta(hours=1))


def take_back_expired(site: Site) -> int:
    """Void the attempts whose runner was not heard of in time; how many.

    A runner can only be heard of while a server answers: leases are taken back when one has answered for as long
    as a lease lasts. So neither a server nor a database that was away, nor a clock that jumped, costs an attempt.
    """
    with site.store.transaction() as session:
        if not is_answered(session, LEASE, MISSED):
            return 0
        expired = expired_leases(session)
        for attempt in expired:
            lose(session, attempt, f"runner {attempt.runner} was not heard of for {LEASE.seconds} s")
    return len(expired)
