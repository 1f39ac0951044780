"""Timekeeping: schedules that are due, approvals that came too late, and what is remembered for a while only."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from myriant.flow.control.searches import go_on_with_searches
from myriant.flow.intake.schedules import start_scheduled
from myriant.flow.intake.sending import forget_unfinished
from myriant.flow.plans import plan_of
from myriant.flow.site import Site
from myriant.flow.state.advance import advance
from myriant.store.tables import Approval, Control, Report, Run, Schedule, SeenEvent

_REMEMBERED = timedelta(days=30)


def keep_time(site: Site, now: datetime | None = None) -> list[int]:
    """Start what is due and end what waited too long; the numbers of the runs that were made.

    A schedule that was missed, however often, runs once, and its run says that it is late.
    """
    now = now or datetime.now(UTC)
    with site.store.transaction() as session:
        numbers = []
        for due in session.scalars(select(Schedule).where(Schedule.next_at <= now).with_for_update(skip_locked=True)):
            number = start_scheduled(session, due, now)
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


FRESH = timedelta(hours=6)


def drop_stale_controls(session: Session) -> None:
    """Give up what found no free slot for hours: its answer would come too late."""
    runs = select(Run.id).where(Run.ended_at < datetime.now(UTC) - FRESH)
    session.execute(
        update(Control)
        .where(Control.state == "waiting", Control.place != "search", Control.run_id.in_(runs))
        .values(state="given-up")
    )
