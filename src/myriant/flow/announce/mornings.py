"""Pages that are told at a time, morning pages and reports: by mail or by a request."""

from __future__ import annotations

import logging
from datetime import UTC, datetime, timedelta

from sqlalchemy.exc import SQLAlchemyError

from myriant.core.plan.schedule import ScheduleError, Times, timed
from myriant.core.states import Page
from myriant.core.telling.morning import Morning, morning_text
from myriant.core.written import counted
from myriant.flow.errors import BadInput, FlowError
from myriant.flow.site import Site
from myriant.flow.views.morning import morning
from myriant.flow.views.report.days import MOST_DAYS, Asked, report_with_lines
from myriant.flow.views.report.page import report_html, report_text
from myriant.store.queue import OUTWARD, defer
from myriant.store.records import Telling
from myriant.store.tables import Project, Way
from myriant.store.ways import add_delivery, mornings_due

_log = logging.getLogger(__name__)


def times_of(words: str) -> Times:
    """When a morning page is told: "weekday 07:30 Europe/Oslo". Raises BadInput."""
    try:
        return timed(words)
    except ScheduleError as error:
        raise BadInput(str(error), error.mend) from error


def tell_mornings(site: Site, now: datetime) -> int:
    """Note the pages that are due, each once; how many. One that was missed is told once, late."""
    with site.store.transaction() as session:
        due = []
        for way in mornings_due(session, now):
            assert way.morning_at is not None
            due.append((way.id, session.get_one(Project, way.project_id).name, way.morning, way.page, way.morning_at))
            way.morning_at = next(times_of(way.morning).after(now))
    for way_id, project, words, page, at in due:
        try:
            told = values_of_page(site, project, page, words, now)
        except (FlowError, SQLAlchemyError):
            _log.exception("the %s page of %s could not be made", page, project)
            continue
        with site.store.transaction() as session:
            found = session.get(Way, way_id)
            if found is None:
                continue
            made = add_delivery(
                session,
                way_id=way_id,
                project_id=found.project_id,
                run=told.number,
                said=SAID[page],
                told=told,
                context=str(page),
                subject=f"{page}\n{at.isoformat()}",
            )
            if made is not None:
                defer(session, "deliver", queue=OUTWARD, lock=f"way-{way_id}", way_id=way_id)
    return len(due)


SAID = {Page.MORNING: "the morning page", Page.REPORT: "the report"}


def values_of_page(site: Site, project: str, page: Page, words: str, now: datetime | None = None) -> Telling:
    """What is told at a time. Raises BadInput, NotFound."""
    times, now = times_of(words), now or datetime.now(UTC)
    if page is Page.MORNING:
        return values_of_morning(site, morning(site, project, times.zone, now=now))
    coming = times.after(now)
    first = next(coming)
    return values_of_report(
        site, project, min(MOST_DAYS, max(1, round((next(coming) - first) / timedelta(days=1)))), now
    )


def values_of_report(site: Site, project: str, days: int, now: datetime) -> Telling:
    """The named values of a report of as many days as lie between two, by the names that outcomes have."""
    report, lines = report_with_lines(site, project, Asked(days), now)
    address = f"{site.address}/p/{project}/report?days={days}"
    return Telling(
        project=project,
        number=0,
        branch=report.now.branch,
        context="report",
        state="report",
        sentence=report.said,
        address=address,
        text=report_text(report),
        subject=f"report of {counted(days, 'day')}",
        page=report_html(project, report, lines, address),
    )


def values_of_morning(site: Site, m: Morning) -> Telling:
    """The named values of a morning page, by the names that outcomes have."""
    build = m.newest
    answer = {True: "it may be used", False: "it may not be used", None: "not known yet"}[m.usable]
    return Telling(
        project=m.project,
        number=build.run if build else 0,
        commit=build.commit if build else "",
        short=build.commit[:7] if build else "",
        title=build.title if build else "",
        author=build.author if build else "",
        branch=m.branch,
        context="morning",
        state={True: "clear", False: "held", None: "pending"}[m.usable],
        sentence=m.said,
        address=f"{site.address}/p/{m.project}/morning",
        text=morning_text(m),
        new=sum(c.new for c in m.causes),
        subject=f"this morning: {answer}",
    )
