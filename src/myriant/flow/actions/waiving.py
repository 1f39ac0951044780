"""Waiving: a maintainer says that a rule of the plan need not hold for a time, with the reason; the run is judged
again.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlalchemy.orm import Session

from myriant.core.written import day
from myriant.flow.compare.waivers import WaiverView, waiver_view
from myriant.flow.errors import BadInput, NotFound, Refused
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.flow.state import runs
from myriant.flow.state.exemptions import stand_anew_in
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.tables import Run, Waiver

LONGEST_DAYS = timedelta(days=180)


@dataclass(frozen=True, slots=True)
class Waiving:
    """What is waived: a rule by its name, until when, why; `everywhere` or in the run's own context."""

    rule: str
    until: datetime
    reason: str
    everywhere: bool = False


def waive(site: Site, name: str, number: int, wish: Waiving, who: Person) -> WaiverView:
    """Let a rule that holds a run not hold it, down to the value it has there. Raises BadInput, NotFound, Refused."""
    reason, now = wish.reason.strip(), datetime.now(UTC)
    if wish.until.tzinfo is None:
        raise BadInput("the end has no time zone", "write for example 2026-12-24T00:00:00Z")
    if not reason:
        raise BadInput("a waiver needs a reason", "say why the rule need not hold, and where it is followed up")
    if not now < wish.until <= now + LONGEST_DAYS:
        raise BadInput(f"a waiver ends within {LONGEST_DAYS.days} days from now", "give an earlier end")
    with site.store.transaction() as session:
        project = the_project(session, name)
        run = the_run(session, project, number)
        session.refresh(run, with_for_update=True)
        about, worst, shown = _holding(run, wish.rule)
        row = Waiver(
            project_id=project.id,
            rule=wish.rule,
            context="" if wish.everywhere else run.context,
            run=run.number,
            about=about,
            worst=worst,
            shown=shown,
            reason=reason,
            by=who.name,
            at=now,
            until=wish.until,
        )
        session.add(row)
        where = "everywhere" if wish.everywhere else f"for {run.context}"
        said = f"{wish.rule} ({shown}) {where} until {day(wish.until)}, at #{run.number}: {reason}"
        record(session, project.id, who.name, "waived", said)
        _judge_again(session, run)
        return waiver_view(row)


def _holding(run: Run, rule: str) -> tuple[str, str, str]:
    """Of a rule that holds a run its measure with the sign, the exact value, and its words."""
    found = [j for j in run.judged if j.name == rule and not j.met]
    if not found or not run.context or run.ended_at is None:
        raise BadInput(f"#{run.number} is not held by a rule {rule[:200]}", "the run's page lists what holds it")
    told = found[0]
    if told.built_in is not None:
        raise Refused(
            f"“{rule}” always stands and cannot be waived",
            "quarantine a test that fails, accept what is less than before, or run again what is void",
        )
    if told.level != "block":
        raise Refused(f"“{rule}” only warns", "it holds nothing, so there is nothing to waive")
    if told.value is None:
        raise Refused(f"“{rule}” was not measured ({told.reason})", "mend what keeps it from being measured")
    if not told.exact:
        raise Refused(f"#{run.number} was judged before rules could be waived", "run it again first")
    return (
        f"{told.measure} {told.sign}",
        told.exact,
        f"{told.value}, {told.sign.replace('-', ' ')} {told.limit}",
    )


def _judge_again(session: Session, run: Run) -> None:
    session.flush()
    runs.call_for_conclusion(session, run, urgent=True)


def end_waiver(site: Site, name: str, number: int, why: str, who: Person) -> WaiverView:
    """Let a rule hold again what is judged from now on."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = session.get(Waiver, number)
        if row is None or row.project_id != project.id:
            raise NotFound(f"{name} has no waiver {number}")
        if row.ended_at is None:
            row.ended_at, row.ended_why = datetime.now(UTC), f"{who.name}: {why.strip() or 'taken back'}"
            record(session, project.id, who.name, "ended a waiver", f"{row.rule}: {why.strip() or 'taken back'}")
            session.flush()
            stand_anew_in(session, project.id)
        return waiver_view(row)
