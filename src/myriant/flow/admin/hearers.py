"""How people want to hear of a project's news by mail: what of it, when, and in one mail for a day."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.plan.schedule import ScheduleError
from myriant.core.states import Wants
from myriant.core.telling.hearing import due
from myriant.core.telling.mail import is_address
from myriant.flow.announce.hearing import ASKED
from myriant.flow.errors import BadInput, NotFound
from myriant.flow.naming import the_project
from myriant.flow.sealing import as_sealed, seal
from myriant.flow.site import Site
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.hearers import forget_kept, hearer_with, hearers_of, kept_counts
from myriant.store.tables import Hearer, Project, Way
from myriant.store.ways import way_named

WANTS = {Wants.ALL: "every piece of news", Wants.MINE: "what may be theirs", Wants.NOTHING: "nothing"}
MOST_HEARERS = 500


@dataclass(frozen=True, slots=True)
class HearerView:
    address: str
    wants: Wants
    quiet: str
    gathered: str
    kept: int  # pieces of news that wait for them
    by: str
    at: datetime


def hearers(site: Site, name: str) -> list[HearerView]:
    """How people hear of a project. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        kept = kept_counts(session, project.id)
        return [
            HearerView(h.address, h.wants, h.quiet, h.gathered, kept.get(h.address, 0), h.by, h.at)
            for h in hearers_of(session, project.id)
        ]


def set_hearer(site: Site, name: str, address: str, wants: Wants, quiet: str, gathered: str, who: Person) -> None:
    """Keep how somebody wants to hear. Raises NotFound, BadInput."""
    if not is_address(address):
        raise BadInput(f"{address[:80]!r} is no address for mail", "write for example ada@tidewater.example")
    quiet, gathered = quiet.strip(), gathered.strip()
    try:
        due(quiet, gathered, datetime.now(UTC))
    except ScheduleError as error:
        raise BadInput(str(error), error.mend) from error
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = hearer_with(session, project.id, address)
        if row is None:
            if len(hearers_of(session, project.id)) >= MOST_HEARERS:
                raise BadInput(f"at most {MOST_HEARERS} people say how they hear of a project", "remove some")
            row = Hearer(project_id=project.id, address=address)
            session.add(row)
        row.wants, row.quiet, row.gathered, row.by, row.at = wants, quiet, gathered, who.name, datetime.now(UTC)
        if wants is Wants.NOTHING:
            forget_kept(session, project.id, address)
        if wants is Wants.ALL:
            _ensure_way(site, session, project)
        when = "".join([f", not in {quiet}" if quiet else "", f", gathered {gathered}" if gathered else ""])
        record(session, project.id, who.name, "hearer", f"{address} hears {WANTS[wants]}{when}")


def remove_hearer(site: Site, name: str, address: str, who: Person) -> None:
    """Somebody hears as the ways say; what is kept for them is told in its time. Raises NotFound."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = hearer_with(session, project.id, address)
        if row is None:
            raise NotFound(f"{address[:80]} has said nothing about how they hear")
        session.delete(row)
        record(session, project.id, who.name, "hearer", f"{address} hears as the ways say")


def _ensure_way(site: Site, session: Session, project: Project) -> None:
    if way_named(session, project.id, ASKED) is None:
        sealed = seal(site.key(), project.id, as_sealed(ASKED), json.dumps({"to": [], "asked": True}))
        session.add(
            Way(
                project_id=project.id,
                name=ASKED,
                kind="mail",
                shown="those who asked to hear",
                sealed=sealed,
                always=False,
                by="people",
                on=True,
            )
        )
