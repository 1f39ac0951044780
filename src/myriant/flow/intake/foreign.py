"""Events of another host in its own shape, as a project's mapping reads them."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.states import PullState
from myriant.core.telling.foreign import ForeignChange, ForeignError, is_proven, read_foreign, read_mapping
from myriant.flow.errors import BadInput, Forbidden
from myriant.flow.intake.pulls import change_pull_request
from myriant.flow.intake.refs import look
from myriant.flow.naming import the_project
from myriant.flow.sealing import opened, seal
from myriant.flow.site import Site
from myriant.flow.state.starting import Taken, started_text
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.projects import branch_at
from myriant.store.runs import newest_run_of_pull
from myriant.store.tables import PullRequest

SEALED_AS = "@foreign"


@dataclass(frozen=True, slots=True)
class ForeignView:
    """How another host's events are read; the secret is shown to nobody."""

    mapping: str  # empty: none are taken
    by: str
    secret: bool


@dataclass(frozen=True, slots=True)
class ForeignMeaning:
    """What an example would mean."""

    said: str
    number: int | None
    source: str | None
    target: str | None
    title: str
    author: str
    state: PullState | None
    may_write: bool | None


def foreign_of(site: Site, name: str) -> ForeignView:
    with site.store.view() as session:
        project = the_project(session, name)
        return ForeignView(
            project.foreign.get("mapping", ""), project.foreign.get("by", ""), project.foreign_secret is not None
        )


def set_foreign(site: Site, name: str, mapping: str, secret: str | None, who: Person) -> None:
    """Take events of another host as a mapping reads them; an empty one takes none. None keeps the secret."""
    if mapping:
        _checked(mapping)
    with site.store.transaction() as session:
        project = the_project(session, name)
        if secret:
            project.foreign_secret = seal(site.key(), project.id, SEALED_AS, secret)
        if mapping and project.foreign_secret is None:
            raise BadInput("nothing shows who sent an event", "give the secret that the sender knows too")
        project.foreign = {"mapping": mapping, "by": who.name} if mapping else {}
        project.foreign_secret = project.foreign_secret if mapping else None
        record(session, project.id, who.name, "events", "another host's are taken" if mapping else "none are taken")


def _checked(mapping: str) -> Any:
    try:
        return read_mapping(mapping)
    except ForeignError as error:
        raise BadInput(str(error), error.mend) from error


def try_foreign(mapping: str, example: str) -> ForeignMeaning:
    """What an example would mean; nothing is started. Raises BadInput."""
    read = _checked(mapping)
    try:
        found = read_foreign(read, json.loads(example))
    except ForeignError as error:
        raise BadInput(str(error), error.mend) from error
    except (ValueError, RecursionError) as error:
        raise BadInput(f"the example is no JSON: {error}", "paste the body of a request") from error
    return ForeignMeaning(
        _meaning(found),
        found.number,
        found.source,
        found.target,
        found.title,
        found.author,
        found.state,
        found.may_write,
    )


def _meaning(found: ForeignChange) -> str:
    if found.number is None:
        return "It names no pull request: it has the repository looked at, and what moved is tested."
    if found.state is None:
        return f"It says nothing that starts or ends pull request {found.number}."
    if found.state is not PullState.OPEN:
        return f"Pull request {found.number} is {found.state}."
    into = f" into {found.target}" if found.target else ""
    stranger = "" if found.may_write is not False else "; its author may not write, so a maintainer looks at it first"
    return (
        f"Pull request {found.number}, {found.source or 'its branch'}{into}, is tested as it would be merged{stranger}."
    )


def take_foreign(site: Site, name: str, body: bytes, headers: Mapping[str, str]) -> Taken:
    """Take another host's event; what was tested as it stands is not tested again. Raises Forbidden, BadInput."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        text, sealed, project_id = project.foreign.get("mapping", ""), project.foreign_secret, project.id
        secret = opened(site.key(), project_id, SEALED_AS, sealed) if sealed is not None else None
        if not text or not secret:
            raise Forbidden("no events of another host are taken here", "set a mapping in the project's settings")
        mapping = read_mapping(text)
        if not is_proven(mapping.proof, secret, body, headers):
            raise Forbidden("the event's sender does not know this project's secret")
    try:
        found = read_foreign(mapping, json.loads(body))
    except ForeignError as error:
        raise BadInput(str(error), error.mend) from error
    except (ValueError, RecursionError) as error:
        raise BadInput(f"the event is no JSON: {error}") from error
    with site.store.view() as session:
        if found.number is not None and _is_known(session, project_id, found):
            return Taken(f"pull request {found.number} was tested as it stands", [], repeated=True)
    return _taken(site, name, found)


def _is_known(session: Session, project_id: int, found: ForeignChange) -> bool:
    """Whether an open pull request is as it is told, and was run so. Such events have no name to know a repeat by: the
    very same words may say that it was opened again, or that its branch moved.
    """
    pull = session.get(PullRequest, (project_id, found.number))
    if pull is None or pull.state is not PullState.OPEN or found.state is not PullState.OPEN:
        return False
    told = (found.source or pull.source, found.target or pull.target, found.title or pull.title)
    stranger = pull.stranger if found.may_write is None else not found.may_write
    newest = newest_run_of_pull(session, project_id, pull.number)
    as_told = told == (pull.source, pull.target, pull.title) and stranger == pull.stranger
    heads = (branch_at(session, project_id, pull.source), branch_at(session, project_id, pull.target))
    return as_told and newest is not None and (newest.commit, newest.base) == heads


def _taken(site: Site, name: str, found: ForeignChange) -> Taken:
    if found.number is None:
        numbers = look(site, name)
        return Taken(started_text(numbers) or "nothing new in the repository", numbers)
    if found.state is None:
        return Taken("nothing that starts or ends a pull request", [])
    return change_pull_request(
        site,
        name,
        found.number,
        source=found.source,
        target=found.target,
        title=found.title,
        author=found.author,
        state=found.state,
        trusted=found.may_write,
    )
