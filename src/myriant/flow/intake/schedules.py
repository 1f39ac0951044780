"""Schedules that are due: one that was missed, however often, runs once and says that it is late."""

from __future__ import annotations

from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from myriant.core.gate.contexts import Context
from myriant.core.states import EventKind
from myriant.core.written import duration
from myriant.flow.plans import plan_of, plan_of_run
from myriant.flow.state.starting import start_run
from myriant.store.projects import branch_at, due_schedules
from myriant.store.records import RunWish
from myriant.store.runs import newest_planned_push
from myriant.store.tables import Project, Schedule

_LATE = timedelta(minutes=2)


def start_schedule(session: Session, name: tuple[int, str, str], now: datetime) -> list[int]:
    """Start a schedule (project, name and branch) if it is due still; the number of the run."""
    found = (_start(session, s, now) for s in due_schedules(session, now) if (s.project_id, s.name, s.branch) == name)
    return [number for number in found if number is not None]


def _start(session: Session, due: Schedule, now: datetime) -> int | None:
    project = session.get_one(Project, due.project_id)
    head = branch_at(session, project.id, due.branch)
    missed, due.next_at = due.next_at, _next(session, project, due, now)
    if head is None or project.paused:
        return None
    wish = RunWish()
    if now - missed > _LATE:
        wish = RunWish(said=f"{duration((now - missed).total_seconds())} late, due {missed:%Y-%m-%d %H:%M} UTC")
    return start_run(
        session,
        project,
        event=EventKind.SCHEDULE,
        context=Context(EventKind.SCHEDULE, due.name),
        branch=due.branch,
        commit=head,
        wish=wish,
    )


def _next(session: Session, project: Project, due: Schedule, now: datetime) -> datetime:
    newest = newest_planned_push(session, project.id, project.main_branch)
    plan = plan_of_run(session, newest) if newest is not None else plan_of(project.plan)
    wanted = next((s for s in plan.events.schedules if s.name == due.name), None) if plan is not None else None
    return next(wanted.times.after(now)) if wanted is not None else now + timedelta(days=3650)
