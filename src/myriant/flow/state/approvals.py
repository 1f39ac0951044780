"""What an approval may become: a word is said once."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy.orm import Session

from myriant.core.states import ApprovalState
from myriant.flow.errors import Refused
from myriant.store.tables import Approval, Run


def ask(session: Session, run: Run, job: str, within: float) -> None:
    """A job waits for a person's word from now on; one that was said before says nothing any more."""
    until = datetime.now(UTC) + timedelta(seconds=within)
    asked = Approval(run_id=run.id, job=job, state=ApprovalState.WAITING, until=until, by="", reason="", at=None)
    session.merge(asked)
    session.flush()


def say(word: Approval, by: str, reason: str, *, given: bool) -> None:
    """Raises Refused when the word was said already, or came too late."""
    if word.state != ApprovalState.WAITING:
        raise Refused(f"the word on {word.job} is said already: {word.state}")
    word.state, word.by = (ApprovalState.GIVEN if given else ApprovalState.REFUSED), by
    word.at, word.reason = datetime.now(UTC), reason


def expire(word: Approval, at: datetime) -> None:
    word.state, word.at = ApprovalState.LATE, at
