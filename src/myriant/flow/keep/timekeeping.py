"""Timekeeping: schedules that are due, approvals that came too late, and what is remembered for a while only."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from myriant.flow.announce.hearing import tell_gathered
from myriant.flow.announce.sending import call_for_due
from myriant.flow.control.batches import go_on_with_batches
from myriant.flow.control.searches import go_on_with_searches
from myriant.flow.control.stopping import stop_overspent
from myriant.flow.intake.refreshing import refresh_due
from myriant.flow.intake.schedules import start_due_schedules
from myriant.flow.intake.sending import forget_unfinished
from myriant.flow.keep.drill import LONGEST, clear_away
from myriant.flow.keep.drills import call_for_drills
from myriant.flow.keep.mornings import tell_mornings
from myriant.flow.keep.notices import SELDOM, tell_notices
from myriant.flow.keep.retention import prune_a_little
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.flow.state.advance import advance
from myriant.flow.state.approvals import expire
from myriant.flow.state.controls import give_up
from myriant.store.attempts import take_outlived_reports
from myriant.store.controls import stale_controls
from myriant.store.projects import forget_seen_events
from myriant.store.releases import runs_waiting_to_release
from myriant.store.runs import late_approvals
from myriant.store.tables import Run

_REMEMBERED = timedelta(days=30)
FRESH = timedelta(hours=6)  # what found no free slot for so long gives an answer too late


_looked_last: list[datetime] = []


def _seldom(now: datetime) -> bool:
    """Whether it is time again for what is looked at once in a while; by this process alone, as others may be late."""
    if _looked_last and timedelta(0) <= now - _looked_last[0] < SELDOM:
        return False
    _looked_last[:] = [now]
    return True


def keep_time(site: Site, now: datetime | None = None) -> list[int]:
    """Start what is due and end what waited too long; the numbers of the runs that were made.

    A schedule that was missed, however often, runs once, and its run says that it is late.
    """
    now = now or datetime.now(UTC)
    with site.store.transaction() as session:
        numbers = start_due_schedules(session, now) + refresh_due(session, now)
        for word in late_approvals(session, now):
            expire(word, now)
            run = session.get_one(Run, word.run_id, with_for_update=True)
            advance(session, run, plan_of_run(session, run))
        for run in runs_waiting_to_release(session):
            session.refresh(run, with_for_update=True)
            advance(session, run, plan_of_run(session, run))
        gone = take_outlived_reports(session, now, 500)
        for control in stale_controls(session, now - FRESH):
            give_up(control)
        forget_seen_events(session, now - _REMEMBERED)
    stop_overspent(site)
    call_for_drills(site, now)
    go_on_with_searches(site)
    go_on_with_batches(site)
    tell_mornings(site, now)
    tell_gathered(site, now)
    tell_notices(site, now, all_of_it=_seldom(now))
    call_for_due(site, now)
    prune_a_little(site, now)
    forget_unfinished(site)
    clear_away(site, now - LONGEST)
    for report in gone:
        if report.blob:
            site.blobs.remove(report.blob)
    return numbers
