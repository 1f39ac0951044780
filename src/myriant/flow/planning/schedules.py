"""Schedules: those of the plan on the main branch are kept, with their next times."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.plan.model import Plan
from myriant.store.projects import schedules_of
from myriant.store.tables import Project, Schedule


def remember_schedules(session: Session, project: Project, plan: Plan) -> None:
    """Keep the schedules of the plan on the main branch, with their next times."""
    now = datetime.now(UTC)
    known = {s.name: s for s in schedules_of(session, project.id)}
    for wanted in plan.events.schedules:
        branch = wanted.branch or project.main_branch
        kept = known.pop(wanted.name, None)
        if kept is None or kept.words != wanted.times.words:
            at = next(wanted.times.after(now))
            session.merge(
                Schedule(project_id=project.id, name=wanted.name, branch=branch, words=wanted.times.words, next_at=at)
            )
        else:
            kept.branch = branch
    for gone in known.values():
        session.delete(gone)
