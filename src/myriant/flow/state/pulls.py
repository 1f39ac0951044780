"""What a pull request may become."""

from __future__ import annotations

from collections.abc import Collection

from sqlalchemy.orm import Session

from myriant.core.states import PULL_MOVES, PullState, check_move
from myriant.store.projects import open_pulls_at
from myriant.store.tables import PullRequest


def become(pull: PullRequest, told: PullState) -> bool:
    """As its host tells it, or its own ref; whether that is another state. One that was merged is never only closed:
    hosts tell the two in any order.
    """
    before = PullState(pull.state)
    then = before if (before, told) == (PullState.MERGED, PullState.CLOSED) else told
    check_move(f"pull request {pull.number}", PULL_MOVES, before, then)
    pull.state = then
    return then != before


def close_from(session: Session, project_id: int, sources: Collection[str]) -> list[int]:
    """Those whose own ref is gone are over; their numbers."""
    found = open_pulls_at(session, project_id, sources)
    for pull in found:
        become(pull, PullState.CLOSED)
    return [p.number for p in found]
