"""Events that are told: by another system over HTTP (CloudEvents 1.0 with CDEvents types), or by a person.

An event only says that something happened; what is tested is always what the repository itself holds.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
from typing import Any

from myriant.core.digits import number_of
from myriant.core.states import PullState
from myriant.flow.errors import BadInput
from myriant.flow.intake.pulls import change_pull_request
from myriant.flow.intake.refs import look
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.state.starting import Taken, started_text
from myriant.store.engine import in_turn
from myriant.store.projects import BRANCH, project_named
from myriant.store.tables import SeenEvent

_CHANGE = "dev.cdevents.change."


_BRANCHES = ("dev.cdevents.branch.", "dev.cdevents.repository.")


_STATES = {
    "created": PullState.OPEN,
    "updated": PullState.OPEN,
    "reviewed": PullState.OPEN,
    "merged": PullState.MERGED,
    "abandoned": PullState.CLOSED,
}


def event_secret(site: Site, project_name: str) -> str:
    """The secret with which a project's events are signed; made when it is first asked for."""
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        project.event_secret = project.event_secret or secrets.token_urlsafe(32)
        return project.event_secret


def is_signed(site: Site, project_name: str, body: bytes, signature: str) -> bool:
    """Whether `signature` ("sha256=" and the hexadecimal HMAC of the body) was made with the project's secret."""
    with site.store.transaction() as session:
        project = project_named(session, project_name)
        secret = project.event_secret if project is not None else ""  # who does not know it learns of no name
    wanted = "sha256=" + hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()
    return bool(secret) and hmac.compare_digest(wanted, signature)


def take_event(site: Site, project_name: str, event: dict[str, Any]) -> Taken:
    """Take a CloudEvent; one that was taken before is answered as before and starts nothing. Raises BadInput."""
    for key in ("id", "source", "type"):
        if not isinstance(event.get(key), str) or not event[key] or len(event[key]) > 1000:
            raise BadInput(f"the event has no {key}", "send a CloudEvent 1.0 in structured mode")
    if event.get("specversion") != "1.0":
        raise BadInput("the event's specversion is not 1.0", 'send specversion = "1.0"')
    with in_turn(site.store, "\n".join((project_name, event["source"], event["id"]))):
        return _take_once(site, project_name, event)


def _take_once(site: Site, project_name: str, event: dict[str, Any]) -> Taken:
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        seen = session.get(SeenEvent, (project.id, event["source"], event["id"]))
        if seen is not None:
            return Taken(seen.said, [], repeated=True)
    kind = event["type"]
    if kind.startswith(_CHANGE):
        taken = _change(site, project_name, kind.removeprefix(_CHANGE).split(".")[0], _subject(event))
    elif kind.startswith(_BRANCHES):
        numbers = look(site, project_name)
        taken = Taken(started_text(numbers) or "nothing new in the repository", numbers)
    else:
        raise BadInput(f"{kind[:200]} starts nothing here", f"types that do: {_CHANGE}*, {_BRANCHES[0]}*")
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        session.merge(SeenEvent(project_id=project.id, source=event["source"], event_id=event["id"], said=taken.said))
    return taken


def _subject(event: dict[str, Any]) -> dict[str, Any]:
    data = event.get("data")
    subject = data.get("subject") if isinstance(data, dict) else None
    content = subject.get("content") if isinstance(subject, dict) else None
    found = {**content} if isinstance(content, dict) else {}
    custom = data.get("customData") if isinstance(data, dict) else None
    if isinstance(custom, dict):
        found |= custom
    if isinstance(subject, dict):
        found.setdefault("id", subject.get("id"))
    return found


def _change(site: Site, project_name: str, what: str, subject: dict[str, Any]) -> Taken:
    state = _STATES.get(what)
    if state is None:
        raise BadInput(f"a change cannot be {what[:80]}", f"known: {', '.join(_STATES)}")
    number = str(subject.get("number") or subject.get("id") or "")
    digits = number.rsplit("/", 1)[-1].rsplit("#", 1)[-1]
    pull = number_of(digits)
    if pull is None:
        raise BadInput("the change has no number", "give it as subject.content.number, or end subject.id with it")
    source, target = _branch(subject, "source"), _branch(subject, "target")
    return change_pull_request(
        site,
        project_name,
        pull,
        source=source,
        target=target,
        title=str(subject.get("title") or ""),
        author=str(subject.get("author") or ""),
        state=state,
        trusted=_may_write(subject),
    )


def _may_write(subject: dict[str, Any]) -> bool | None:
    """Whether the author of a change may write to the repository; None when the event does not say."""
    told = subject.get("authorMayWrite")
    return told if isinstance(told, bool) else None


def _branch(subject: dict[str, Any], key: str) -> str | None:
    value = subject.get(key) or subject.get(f"{key}Branch")
    return str(value).removeprefix(BRANCH)[:500] if value else None
