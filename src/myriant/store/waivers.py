"""Questions about waivers: rules that need not hold for a time."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from fractions import Fraction

from sqlalchemy import or_, select
from sqlalchemy.orm import Session

from myriant.core.gate.contexts import push_to
from myriant.core.gate.judge import Waived
from myriant.store.tables import Run, Waiver

_MOST = 500


def waivers_for(session: Session, run: Run, at: datetime | None = None) -> dict[str, list[Waived]]:
    """By the names of their rules, the waivers that are in force for a run: given for it or one before it, in its
    context, and not over when it ended, or at another time. What is waived on a branch is waived for pull requests into
    it too: nothing worse than was seen there.
    """
    moment = at or run.ended_at or datetime.now(UTC)
    contexts = ["", run.context]
    if run.base:
        contexts.append(str(push_to(run.branch)))
    query = (
        select(Waiver)
        .where(Waiver.project_id == run.project_id, Waiver.run <= run.number, Waiver.until > moment)
        .where(Waiver.context.in_(contexts), or_(Waiver.ended_at.is_(None), Waiver.ended_at > moment))
        .order_by(Waiver.id)
    )
    found: dict[str, list[Waived]] = {}
    for w in session.scalars(query):
        found.setdefault(w.rule, []).append(Waived(w.by, w.until, w.reason, w.about, Fraction(w.worst)))
    return found


def waivers_of(session: Session, project_id: int) -> Sequence[Waiver]:
    """The newest waivers of a project, those that are over too."""
    query = select(Waiver).where(Waiver.project_id == project_id).order_by(Waiver.id.desc())
    return session.scalars(query.limit(_MOST)).all()
