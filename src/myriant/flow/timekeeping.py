"""Timekeeping: schedules that are due, approvals that came too late, and what is remembered for a while only."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from myriant.core.written import duration
from myriant.flow.advance import advance
from myriant.flow.controls import drop_stale_controls
from myriant.flow.intake import BRANCH, start_run
from myriant.flow.plans import plan_of
from myriant.flow.searches import go_on_with_searches
from myriant.flow.sending import forget_unfinished
from myriant.flow.site import Site
from myriant.store.tables import Approval, Project, Ref, Report, Run, Schedule, SeenEvent

_LATE = timedelta(minutes=2)
_REMEMBERED = timedelta(days=30)


def keep_time(site: Site, now: datetime | None = None) -> list[int]:
    """Start what is due and end what waited too long; the numbers of the runs that were made.

    A schedule that was missed, however often, runs once, and its run says that it is late.
    """
    now = now or datetime.now(UTC)
    with site.store.transaction() as session:
        numbers = []
        for due in session.scalars(select(Schedule).where(Schedule.next_at <= now).with_for_update(skip_locked=True)):
            number = _start(session, due, now)
            numbers += [number] if number is not None else []
        late = session.scalars(
            select(Approval).where(Approval.state == "waiting", Approval.until <= now).with_for_update(skip_locked=True)
        )
        for word in late.all():
            word.state, word.at = "late", now
            run = session.get_one(Run, word.run_id, with_for_update=True)
            advance(session, run, plan_of(run.plan))
        gone = session.scalars(
            select(Report).where(Report.until <= now).limit(500).with_for_update(skip_locked=True)
        ).all()
        for report in gone:
            session.delete(report)
        drop_stale_controls(session)
        session.execute(delete(SeenEvent).where(SeenEvent.at < now - _REMEMBERED))
    go_on_with_searches(site)
    forget_unfinished(site)
    for report in gone:
        site.blobs.remove(report.blob)
    return numbers


def _start(session: Session, due: Schedule, now: datetime) -> int | None:
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
