"""Upkeep: what time brings, as small tasks, each with its own interval, lock and error.

A task that fails is said in the log and tried again when it is due next; it keeps no other from its work. Of several
workers one does a task at a time.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy.orm import Session

from myriant.core.gate.drilled import LONGEST
from myriant.flow.actions.batches import go_on_with_batches
from myriant.flow.actions.searches import go_on_with_searches
from myriant.flow.actions.stopping import stop_overspent
from myriant.flow.announce.hearing import tell_gathered
from myriant.flow.announce.mornings import tell_mornings
from myriant.flow.announce.notices import SELDOM, tell_notices
from myriant.flow.announce.sending import call_for_due
from myriant.flow.dispatch.loss import take_back_expired
from myriant.flow.drill.by_schedule import call_for_drills
from myriant.flow.drill.trial import clear_away
from myriant.flow.intake.refreshing import refresh_project
from myriant.flow.intake.schedules import start_schedule
from myriant.flow.intake.sending import forget_unfinished
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.flow.state.advance import advance
from myriant.flow.state.approvals import expire
from myriant.flow.state.controls import give_up
from myriant.flow.state.exemptions import stand_anew_in
from myriant.flow.state.runs import call_for_conclusion
from myriant.flow.upkeep.retention import prune_a_little
from myriant.store.attempts import take_outlived_reports
from myriant.store.controls import stale_controls
from myriant.store.engine import is_away, only_one
from myriant.store.exemptions import projects_with_a_word_over
from myriant.store.projects import due_schedules, forget_seen_events, projects_to_refresh
from myriant.store.releases import runs_waiting_to_release
from myriant.store.runs import late_approvals, runs_waiting_for_advisory
from myriant.store.tables import Run

_log = logging.getLogger(__name__)
_REMEMBERED = timedelta(days=30)
_LOOKED_BACK = timedelta(days=2)  # for what ended while nobody did upkeep
FRESH = timedelta(hours=6)  # what found no free slot for so long gives an answer too late


@dataclass(frozen=True, slots=True)
class Upkeep:
    name: str
    seconds: float  # from one time to the next
    do: Callable[[Site, datetime], object]


def _take_back(site: Site, now: datetime) -> None:
    taken = take_back_expired(site)
    if taken:
        _log.warning("%d leases had expired", taken)


def start_due(site: Site, now: datetime) -> list[int]:
    """Start the schedules that are due; the numbers of the runs. Each in a transaction of its own.

    A schedule that was missed, however often, runs once, and its run says that it is late.
    """
    with site.store.transaction() as session:
        due = [(s.project_id, s.name, s.branch) for s in due_schedules(session, now)]
    numbers = []
    for name in due:
        with _apart(f"the schedule {name[1]} of project {name[0]}"), site.store.transaction() as session:
            numbers += start_schedule(session, name, now)
    return numbers


def refresh_due(site: Site, now: datetime) -> list[int]:
    """Test anew what is tested anew at a time of its project; the numbers of the runs."""
    with site.store.transaction() as session:
        due = [p.id for p in projects_to_refresh(session, now)]
    numbers = []
    for project in due:
        with _apart(f"testing the pull requests of project {project} anew"), site.store.transaction() as session:
            numbers += refresh_project(session, project, now)
    return numbers


def _end_late_approvals(site: Site, now: datetime) -> None:
    with site.store.transaction() as session:
        late = [(word.run_id, word.job) for word in late_approvals(session, now)]
    for run_id, job in late:
        with _apart(f"the late approval of {job}"), site.store.transaction() as session:
            run = session.get_one(Run, run_id, with_for_update=True)
            for word in (w for w in late_approvals(session, now) if (w.run_id, w.job) == (run_id, job)):
                expire(word, now)
            _go_on(session, run)


def _go_on_with_releases(site: Site, now: datetime) -> None:
    with site.store.transaction() as session:
        waiting = [run.id for run in runs_waiting_to_release(session)]
    for run_id in waiting:
        with _apart(f"the release of run {run_id}"), site.store.transaction() as session:
            _go_on(session, session.get_one(Run, run_id, with_for_update=True))


def _go_on(session: Session, run: Run) -> None:
    advance(session, run, plan_of_run(session, run))


def _remove_outlived(site: Site, now: datetime) -> None:
    with site.store.transaction() as session:
        gone = take_outlived_reports(session, now, 500)
    for report in gone:
        if report.blob:
            site.blobs.remove(report.blob)


def _give_up_stale_controls(site: Site, now: datetime) -> None:
    with site.store.transaction() as session:
        for control in stale_controls(session, now - FRESH):
            give_up(control)


def _forget_events(site: Site, now: datetime) -> None:
    with site.store.transaction() as session:
        forget_seen_events(session, now - _REMEMBERED)


def _conclude_without_advisory(site: Site) -> None:
    """The last runner that could take an advisory cell may have gone."""
    with site.store.transaction() as session:
        for run in runs_waiting_for_advisory(session):
            call_for_conclusion(session, run)


def _stand_anew(site: Site, now: datetime) -> None:
    """Waivers and quarantines end by themselves: what is excused by them is told anew."""
    with site.store.transaction() as session:
        projects = projects_with_a_word_over(session, now - _LOOKED_BACK)
    for project in projects:
        with _apart(f"the excused runs of project {project}"), site.store.transaction() as session:
            stand_anew_in(session, project)


UPKEEP = (
    Upkeep("expired leases", 5, _take_back),
    Upkeep("schedules", 10, start_due),
    Upkeep("deliveries that are tried again", 10, call_for_due),
    Upkeep("batches of pull requests", 10, lambda site, now: go_on_with_batches(site)),
    Upkeep("late approvals", 15, _end_late_approvals),
    Upkeep("releases that wait", 15, _go_on_with_releases),
    Upkeep("runs over their budget", 15, lambda site, now: stop_overspent(site)),
    Upkeep("scheduled mails", 15, tell_mornings),
    Upkeep("gathered mails", 15, tell_gathered),
    Upkeep("urgent notices", 15, lambda site, now: tell_notices(site, now, all_of_it=False)),
    Upkeep("searches", 20, lambda site, now: go_on_with_searches(site)),
    Upkeep("pull requests tested anew", 30, refresh_due),
    Upkeep("drills", 30, call_for_drills),
    Upkeep("notices", SELDOM.total_seconds(), lambda site, now: tell_notices(site, now, all_of_it=True)),
    Upkeep("retention", 60, prune_a_little),
    Upkeep("files that outlived their time", 60, _remove_outlived),
    Upkeep("stale control runs", 60, _give_up_stale_controls),
    Upkeep("verdicts that wait for advisory cells", 60, lambda site, now: _conclude_without_advisory(site)),
    Upkeep("excuses whose ground is over", 60, _stand_anew),
    Upkeep("drills that were killed", 60, lambda site, now: clear_away(site, now - LONGEST)),
    Upkeep("unfinished uploads", 600, lambda site, now: forget_unfinished(site)),
    Upkeep("events seen long ago", 3600, _forget_events),
)


class Timekeeper:
    """Which upkeep a process does when: each as often as its interval says, at once after a start."""

    def __init__(self) -> None:
        self._next: dict[str, float] = {}

    def due(self) -> list[Upkeep]:
        """What is due now (monotonic clock); it is due again after its interval."""
        now = time.monotonic()
        found = [task for task in UPKEEP if self._next.get(task.name, 0.0) <= now]
        self._next.update({task.name: now + task.seconds for task in found})
        return found


def keep_time(site: Site, now: datetime | None = None, tasks: tuple[Upkeep, ...] | list[Upkeep] = UPKEEP) -> list[str]:
    """Do upkeep, all of it unless told which; the names of the tasks that failed."""
    now = now or datetime.now(UTC)
    failed = []
    for task in tasks:
        try:
            with only_one(site.store, task.name) as mine:
                if mine:
                    task.do(site, now)
        except Exception as error:
            if is_away(error):
                raise  # the others would only say the same
            _log.exception("upkeep: %s failed, and is tried again in %g s", task.name, task.seconds)
            failed.append(task.name)
    return failed


class _apart:
    """What goes wrong with one thing is said, and the others go on."""

    def __init__(self, what: str) -> None:
        self.what = what

    def __enter__(self) -> None:
        return None

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, _: object) -> bool:
        if error is None or not isinstance(error, Exception) or is_away(error):
            return False
        _log.error("upkeep: %s failed, and is tried again: %s", self.what, error, exc_info=error)
        return True
