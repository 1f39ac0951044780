"""Leases: the right to execute one attempt, kept alive by its runner."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.states import State
from myriant.flow.errors import LeaseLost, NotFound
from myriant.flow.site import Site
from myriant.store.attempts import lease_of, leased
from myriant.store.claims import hear_of
from myriant.store.tables import Attempt, Cell, Run

LEASE = timedelta(seconds=20)


def lease_digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def held(session: Session, attempt_id: int, token: str, *, lock: bool = False) -> Attempt:
    """The attempt, when the token is that of its running lease. Raises LeaseLost."""
    attempt = session.get(Attempt, attempt_id, with_for_update=lock)
    if attempt is None:
        raise LeaseLost("this lease is not known")
    check(attempt.lease_digest, attempt.state, attempt.reason, token)
    return attempt


def check(digest: str, state: State, reason: str, token: str) -> None:
    """Whether a token is that of a running lease. Raises LeaseLost."""
    if not secrets.compare_digest(digest, lease_digest(token)):
        raise LeaseLost("this lease is not known")
    if state != State.RUNNING:
        raise LeaseLost(f"this attempt has ended: {state} {reason}".strip())


def check_lease(site: Site, attempt_id: int, token: str) -> None:
    """Asked before each body of a runner is read. Raises LeaseLost."""
    with site.store.transaction() as session:
        found = lease_of(session, attempt_id)
    if found is None:
        raise LeaseLost("this lease is not known")
    check(*found, token)


def source_of_lease(site: Site, attempt_id: int, token: str) -> tuple[int, str]:
    """The project of a running lease and its commit, for fetching the source. Raises LeaseLost."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        run = session.get_one(Run, session.get_one(Cell, attempt.cell_id).run_id)
        return run.project_id, run.tested or run.commit


def heartbeat(site: Site, runner_id: int, attempts: dict[int, str]) -> list[int]:
    """Keep leases alive; the attempts among them that the runner must give up."""
    lost = []
    with site.store.transaction() as session:
        if hear_of(session, runner_id) is None:
            raise NotFound("this runner is not enrolled", "start it again: myriant runner")
        known = {a.id: a for a in leased(session, attempts)}
        for attempt_id, token in sorted(attempts.items()):
            attempt = known.get(attempt_id)
            if attempt is None or attempt.state != State.RUNNING or attempt.lease_digest != lease_digest(token):
                lost.append(attempt_id)
            else:
                attempt.lease_until = func.now() + LEASE
    return lost
