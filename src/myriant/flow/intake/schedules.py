"""Schedules that are due: one that was missed, however often, runs once and says that it is late."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.core.written import duration
from myriant.flow.intake.starting import BRANCH, start_run
from myriant.flow.plans import plan_of
from myriant.store.tables import Project, Ref, Run, Schedule

_LATE = timedelta(minutes=2)


def start_scheduled(session: Session, due: Schedule, now: datetime) -> int | None:
    project = session.get_one(Project, due.project_id)
    head = session.get(Ref, (project.id, BRANCH + due.branch))
    missed, due.next_at = due.next_at, _next(session, project, due, now)
    if head is None:
        return None
    wish = {}
    if now - missed > _LATE:
        wish["said"] = f"{duration((now - missed).total_seconds())} late, due {missed:%Y-%m-%d %H:%M} UTC"
    return start_run(
        session, project, event="schedule", purpose=f"schedule {due.name}", branch=due.branch, commit=head.commit,
        wish=wish,
    )  # fmt: skip


def _next(session: Session, project: Project, due: Schedule, now: datetime) -> datetime:
    newest = session.scalars(
        select(Run)
        .where(
            Run.project_id == project.id, Run.branch == project.main_branch, Run.event == "push", Run.plan.is_not(None)
        )
        .order_by(Run.depth.desc(), Run.number.desc())
        .limit(1)
    ).first()
    plan = plan_of(newest.plan if newest is not None else project.plan)
    wanted = next((s for s in plan.events.schedules if s.name == due.name), None) if plan is not None else None
    return next(wanted.times.after(now)) if wanted is not None else now + timedelta(days=3650)
