"""Leases: the right to execute one attempt, kept alive by its runner."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.flow.errors import LeaseLost, NotFound
from myriant.flow.site import Site
from myriant.store.tables import Attempt, Cell, Run, Runner

LEASE = timedelta(seconds=20)


def lease_digest(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def held(session: Session, attempt_id: int, token: str, *, lock: bool = False) -> Attempt:
    """The attempt, when the token is that of its running lease. Raises LeaseLost."""
    attempt = session.get(Attempt, attempt_id, with_for_update=lock)
    if attempt is None or not secrets.compare_digest(attempt.lease_digest, lease_digest(token)):
        raise LeaseLost("this lease is not known")
    if attempt.state != "running":
        raise LeaseLost(f"this attempt has ended: {attempt.state} {attempt.reason}".strip())
    return attempt


def check_lease(site: Site, attempt_id: int, token: str) -> tuple[int, str]:
    """The project of a running lease and its commit, for fetching the source. Raises LeaseLost."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        run = session.get_one(Run, session.get_one(Cell, attempt.cell_id).run_id)
        return run.project_id, run.tested or run.commit


def heartbeat(site: Site, runner_id: int, attempts: dict[int, str]) -> list[int]:
    """Keep leases alive; the attempts among them that the runner must give up."""
    lost = []
    with site.store.transaction() as session:
        runner = session.get(Runner, runner_id)
        if runner is None:
            raise NotFound("this runner is not enrolled", "start it again: myriant runner")
        runner.seen_at = func.now()
        for attempt_id, token in sorted(attempts.items()):
            try:
                held(session, attempt_id, token, lock=True).lease_until = func.now() + LEASE
            except LeaseLost:
                lost.append(attempt_id)
    return lost
