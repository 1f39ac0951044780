"""Quarantine: a person sets a test aside, with reason and end."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from myriant.core.written import day
from myriant.flow.diagnose.flakes import QuarantineView, quarantine_view
from myriant.flow.errors import BadInput, NotFound, Refused
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.state.exemptions import stand_anew_in
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.history import open_quarantines
from myriant.store.results import tests_numbered
from myriant.store.tables import Quarantine

LONGEST_DAYS = timedelta(days=180)


def quarantine(
    site: Site, name: str, tests: Sequence[int], reason: str, owner: str, until: datetime, who: Person
) -> list[QuarantineView]:
    """Set tests aside: their failures are recorded and hold nothing until a date, or until they prove steady.

    Those that are aside already stay as they are. Raises BadInput, NotFound, Refused when none is left.
    """
    reason, owner = reason.strip(), owner.strip() or who.name
    now = datetime.now(UTC)
    if until.tzinfo is None:
        raise BadInput("the end has no time zone", "write for example 2026-12-24T00:00:00Z")
    if not reason:
        raise BadInput("a quarantine needs a reason", "say what is known of the test, and where it is followed up")
    if not now < until <= now + LONGEST_DAYS:
        raise BadInput(
            f"a quarantine ends within {LONGEST_DAYS.days} days from now", "give an earlier end; it can be renewed"
        )
    with site.store.transaction() as session:
        project = the_project(session, name)
        titles = tests_numbered(session, project.id, list(tests))
        unknown = next((t for t in tests if t not in titles), None)
        if unknown is not None:
            raise NotFound(f"{name} has no test {unknown}")
        session.refresh(project, with_for_update=True)
        aside = {held.test for held in open_quarantines(session, project.id)}
        rows = [
            Quarantine(project_id=project.id, test=test, reason=reason, owner=owner, by=who.name, at=now, until=until)
            for test in dict.fromkeys(tests)
            if test not in aside
        ]
        if not rows:
            raise Refused("quarantined already", "end that quarantine first, to give it another end")
        session.add_all(rows)
        session.flush()
        names = ", ".join(titles[row.test].name for row in rows[:3]) + (" …" if len(rows) > 3 else "")
        record(session, project.id, who.name, "quarantined", f"{names} until {day(until)}: {reason}")
        stand_anew_in(session, project.id)
        return [quarantine_view(row, titles) for row in rows]


def end_quarantine(site: Site, name: str, number: int, why: str, who: Person) -> QuarantineView:
    """Take a test back into the gate."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = session.get(Quarantine, number)
        if row is None or row.project_id != project.id:
            raise NotFound(f"{name} has no quarantine {number}")
        if row.ended_at is None:
            row.ended_at, row.ended_why = datetime.now(UTC), f"{who.name}: {why.strip() or 'taken back'}"
            title = tests_numbered(session, project.id, [row.test])[row.test].name
            record(session, project.id, who.name, "ended a quarantine", f"{title}: {why.strip() or 'taken back'}")
            session.flush()
            stand_anew_in(session, project.id)
        return quarantine_view(row, tests_numbered(session, project.id, [row.test]))
