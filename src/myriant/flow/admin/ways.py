"""Ways: where a project's outcomes are told, set by a maintainer, tried at once, listed without what is secret."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urlsplit

from myriant.core.states import DeliveryState, Page
from myriant.core.telling.mail import is_address
from myriant.core.telling.template import Template, TemplateError, checked
from myriant.flow.announce.hearing import ASKED, who_asked
from myriant.flow.announce.mornings import SAID, times_of, values_of_page
from myriant.flow.announce.sending import Answer, attempt
from myriant.flow.errors import BadInput, NotFound, Refused
from myriant.flow.naming import the_project
from myriant.flow.sealing import as_sealed, opened, seal
from myriant.flow.site import Site
from myriant.flow.state import deliveries
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.queue import OUTWARD, defer
from myriant.store.records import EXAMPLE
from myriant.store.secrets import secrets_of_project
from myriant.store.tables import Delivery, Way
from myriant.store.ways import deliveries_of, oldest_waiting, way_named, ways_of

_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,59}")
MOST_WAYS = 30
MOST_TO = 50


@dataclass(frozen=True, slots=True)
class WayWish:
    """A way as a person wants it: a request (url, method, headers, body) or a mail (to, authors)."""

    kind: str = "request"
    always: bool = False
    branches: Sequence[str] = ()
    events: Sequence[str] = ()  # push, pull-request, tag, schedule; none: all
    on: bool = True
    morning: str = ""  # "weekday 07:30 Europe/Oslo": a page is told then, and no outcome
    page: Page = Page.MORNING
    url: str = ""
    method: str = "POST"
    headers: Mapping[str, str] = field(default_factory=dict)
    body: str = ""
    to: Sequence[str] = ()
    authors: bool = False
    owners: bool = False


@dataclass(frozen=True, slots=True)
class WayView:
    """A way as anybody sees it: where it leads, but no address that may be a secret."""

    name: str
    kind: str
    shown: str
    always: bool
    moments: list[str]
    planned: bool
    branches: list[str]
    events: list[str]
    on: bool
    morning: str
    morning_at: datetime | None
    page: Page
    by: str
    at: datetime


@dataclass(frozen=True, slots=True)
class SentView:
    """One thing that was told, or is to be."""

    id: int
    way: str
    kind: str
    shown: str
    run: int
    said: str
    state: str  # waiting, sent, kept (until those whom it is for want to hear), aside
    tries: int
    answer: str
    at: datetime
    next_at: datetime | None
    sent_at: datetime | None
    behind: bool  # an earlier one waits on the same way


def set_way(site: Site, name: str, way: str, wish: WayWish, who: Person) -> None:
    """Keep a way, or put another in its place. Raises BadInput."""
    if not _NAME.fullmatch(way):
        raise BadInput(f"{way[:80]!r} cannot be a way's name", "use small letters, digits and hyphens")
    shown, content = _content(wish)
    morning_at = next(times_of(wish.morning).after(datetime.now(UTC))) if wish.morning else None
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = way_named(session, project.id, way)
        if row is None:
            if len(ways_of(session, project.id)) >= MOST_WAYS:
                raise BadInput(f"a project has at most {MOST_WAYS} ways", "remove one that is used no more")
            row = Way(project_id=project.id, name=way)
            session.add(row)
        row.kind, row.shown, row.always, row.on = wish.kind, shown, wish.always, wish.on
        row.branches, row.by, row.at = list(wish.branches), who.name, datetime.now(UTC)
        row.events = list(wish.events)
        row.morning, row.morning_at, row.page = wish.morning, morning_at, wish.page
        row.sealed = seal(site.key(), project.id, as_sealed(way), json.dumps(content))
        what = f"{SAID[wish.page]} is told {wish.morning}" if wish.morning else "outcomes are told"
        record(session, project.id, who.name, "way", f"{what} to {shown} ({way})")


def _content(wish: WayWish) -> tuple[str, dict[str, Any]]:
    if wish.kind == "mail":
        wrong = next((t for t in wish.to if not is_address(t)), None)
        if wrong is not None:
            raise BadInput(f"{wrong[:80]!r} is no address for mail", "write for example ada@tidewater.example")
        if len(wish.to) > MOST_TO or not (wish.to or wish.authors or wish.owners):
            raise BadInput(f"mail goes to 1 to {MOST_TO} addresses", "name some, or the commits' authors")
        people = [(wish.authors, "the commits' authors"), (wish.owners, "the owners of what it is about")]
        said = ", ".join([*wish.to, *(words for wanted, words in people if wanted)])
        return said, {"to": list(wish.to), "authors": wish.authors, "owners": wish.owners}
    if wish.kind != "request":
        raise BadInput(f"there is no way of the kind {wish.kind[:40]!r}", "request or mail")
    try:
        checked(Template(wish.url, wish.method, wish.headers, wish.body))
    except TemplateError as error:
        raise BadInput(str(error), "values stand in braces, such as {sentence}") from error
    return urlsplit(wish.url).hostname or "", {
        "url": wish.url,
        "method": wish.method,
        "headers": dict(wish.headers),
        "body": wish.body,
    }


def remove_way(site: Site, name: str, way: str, who: Person) -> None:
    """Tell nothing there any more; what was told there is forgotten with it."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = _the_way(session, project.id, way)
        if row.planned:
            raise Refused(f"“{way}” stands in the plan", "take it out of [notify] there")
        if way == ASKED and (asked := who_asked(session, project.id)):
            raise Refused(f"{', '.join(asked[:3])} asked to hear every piece of news", "change how they hear first")
        session.delete(row)
        record(session, project.id, who.name, "way", f"outcomes are told to {row.shown} ({way}) no more")


def _the_way(session: Any, project_id: int, way: str) -> Way:
    row = way_named(session, project_id, way)
    if row is None:
        raise NotFound(f"there is no way {way[:80]!r}")
    return row


def ways(site: Site, name: str) -> list[WayView]:
    with site.store.transaction() as session:
        project = the_project(session, name)
        return [
            WayView(
                w.name,
                w.kind,
                w.shown,
                w.always,
                w.moments,
                w.planned,
                w.branches,
                w.events,
                w.on,
                w.morning,
                w.morning_at,
                w.page,
                w.by,
                w.at,
            )
            for w in ways_of(session, project.id)
        ]


_TRY = "A try, nothing has happened; a message would read:"


def try_way(site: Site, name: str, way: str) -> Answer:
    """Send an example on a way now; what came of it."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = _the_way(session, project.id, way)
        content = opened(site.key(), project.id, as_sealed(row.name), row.sealed)
        sealed = {s.name: s.sealed for s in secrets_of_project(session, project.id)}
        kind, project_id, words, page = row.kind, project.id, row.morning, row.page
        asked = who_asked(session, project.id) if row.name == ASKED else []
    secrets = {n: v for n, s in sealed.items() if (v := opened(site.key(), project_id, n, s)) is not None}
    told = replace(
        EXAMPLE,
        project=name,
        title="A try: nothing has happened",
        sentence=f"{_TRY} {EXAMPLE.sentence}",
        text=f"{_TRY} {EXAMPLE.text}",
        subject="A try: nothing has happened",
        address=f"{site.address}/p/{name}",
    )
    if words:
        told = values_of_page(site, name, page, words)
    if asked:
        told = replace(told, receivers=tuple(asked))
    return attempt(site, kind, content, told, secrets, event=f"try/{project_id}/{datetime.now(UTC).isoformat()}")


def sent(site: Site, name: str, run: int | None, most: int = 200) -> list[SentView]:
    """What was told, newest first."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        oldest = oldest_waiting(session, project.id)
        return [
            SentView(
                d.id,
                w.name,
                w.kind,
                w.shown,
                d.run,
                d.said,
                d.state,
                d.tries,
                d.answer,
                d.created_at,
                d.next_at if d.state is DeliveryState.WAITING else None,
                d.sent_at,
                d.state is DeliveryState.WAITING and d.id > oldest.get(d.way_id, d.id),
            )
            for d, w in deliveries_of(session, project.id, run, most)
        ]


def send_again(site: Site, name: str, number: int) -> None:
    """Try again what was put aside, or waits for its next try."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = session.get(Delivery, number, with_for_update=True)
        if row is None or row.project_id != project.id:
            raise NotFound(f"nothing was told by the number {number}")
        if row.state not in (DeliveryState.ASIDE, DeliveryState.WAITING):
            raise Refused(f"this is {row.state}", "what was put aside, or waits for its next try, is sent again")
        deliveries.try_again(row)
        defer(session, "deliver", queue=OUTWARD, lock=f"way-{row.way_id}", way_id=row.way_id)
