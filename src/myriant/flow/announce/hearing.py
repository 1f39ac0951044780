"""Who of those that a mail is for hears now, who later, and who not at all."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.plan.schedule import ScheduleError
from myriant.core.states import Wants
from myriant.core.telling.hearing import Piece, due, gathered_text
from myriant.flow.site import Site
from myriant.store.hearers import hearers_of, kept_for, note_told, take_kept, told_elsewhere, who_is_due
from myriant.store.queue import OUTWARD, defer
from myriant.store.records import Telling
from myriant.store.tables import Delivery, Project
from myriant.store.ways import add_delivery

GATHERED = "gathered\n"  # begins the subject of what was kept for somebody
ASKED = "people: asked"  # the way of those who asked for every piece of news; none of the settings can have its name


@dataclass(frozen=True, slots=True)
class Heard:
    """Of the receivers of one mail: those who hear now, and those for whom it is kept until a moment."""

    now: list[str] = field(default_factory=list)
    later: dict[str, datetime] = field(default_factory=dict)


def who_asked(session: Session, project_id: int) -> list[str]:
    """Who wants every piece of news of a project."""
    return [h.address for h in hearers_of(session, project_id) if h.wants is Wants.ALL]


def without_silent(session: Session, project_id: int, to: Sequence[str]) -> Heard:
    """Those of the receivers who do not want to hear nothing: for what has a time of its own."""
    silent = {h.address for h in hearers_of(session, project_id) if h.wants is Wants.NOTHING}
    return Heard([address for address in to if address not in silent])


def by_wish(
    session: Session,
    found: Delivery,
    told: Telling,
    to: Sequence[str],
    now: datetime,
    *,
    always: bool,
) -> Heard:
    """The receivers of a piece of news as each wants to hear; nobody is told one thing twice."""
    wishes = {h.address: h for h in hearers_of(session, found.project_id)}
    already = kept_for(session, found.id) | (set() if always else told_elsewhere(session, found))
    theirs = {*told.authors, *told.owners, *told.before}
    heard = Heard()
    for address in dict.fromkeys(to):
        wish = wishes.get(address)
        if address in already or (wish is not None and wish.wants is Wants.NOTHING):
            continue
        if wish is not None and wish.wants is Wants.MINE and address not in theirs:
            continue
        try:
            later = due(wish.quiet, wish.gathered, now) if wish is not None else None
        except ScheduleError:
            later = None  # a zone that this machine knows no more
        if later is None:
            heard.now.append(address)
        else:
            heard.later[address] = later
    return heard


def tell_gathered(site: Site, now: datetime) -> None:
    """Tell in one mail each what was kept for somebody and is due."""
    with site.store.transaction() as session:
        waiting = who_is_due(session, now)
    for project_id, address in waiting:
        with site.store.transaction() as session:
            kept = take_kept(session, project_id, address, now)
            if not kept:
                continue
            project, last = session.get_one(Project, project_id).name, kept[-1][1]
            every = [d for _, d in kept]
            pieces = [
                Piece(d.context, d.run, d.told.news or d.told.state, d.told.sentence, d.told.address) for d in every
            ]
            subject, text = gathered_text(project, pieces)
            told = replace(
                last.told,
                context="gathered",
                text=text,
                subject=subject,
                receivers=(address,),
                address=f"{site.address}/p/{project}/desk",
                news="",
                failing=(),
            )
            made = add_delivery(
                session,
                way_id=last.way_id,
                project_id=project_id,
                run=last.run,
                said=subject,
                told=told,
                context="gathered",
                subject=f"{GATHERED}{address}\n{kept[-1][0].id}",
            )
            if made is not None:
                note_told(session, [row.id for row, _ in kept], made)
                defer(session, "deliver", queue=OUTWARD, lock=f"way-{last.way_id}", way_id=last.way_id)
