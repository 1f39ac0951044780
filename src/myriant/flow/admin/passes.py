"""Tokens of runners: one for each, with the projects whose cells it is given; and the shared one of an installation."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.flow.admin.people import digest_of
from myriant.flow.errors import BadInput, Forbidden, NotFound
from myriant.flow.site import Site
from myriant.flow.state.attempts import lose
from myriant.store.attempts import open_leases_of
from myriant.store.changes import tell
from myriant.store.people import (
    forget_pass,
    has_pass,
    note_use,
    pass_with,
    passes,
)
from myriant.store.projects import all_projects
from myriant.store.runners import runner_named
from myriant.store.tables import Token


@dataclass(frozen=True, slots=True)
class RunnerPass:
    """A runner's own token, without the token itself."""

    runner: str
    projects: list[str] | None  # whose cells it is given; None: all
    created_at: datetime
    used_at: datetime | None


@dataclass(frozen=True, slots=True)
class Bearing:
    """What the token that was shown says of its bearer. The shared token names nobody."""

    runner: str | None
    projects: list[int] | None


def give_pass(site: Site, runner: str, projects: Sequence[str] | None) -> str:
    """A new token for the runner of a name, in place of the one it had. Raises BadInput for an unknown project."""
    with site.store.transaction() as session:
        known = {p.name: p.id for p in all_projects(session)}
        unknown = [name for name in projects or () if name not in known]
        if unknown:
            raise BadInput(f"there is no project {unknown[0][:80]}", f"there are {', '.join(sorted(known)) or 'none'}")
        if projects is not None and not projects:
            raise BadInput("a runner for no project would be given nothing", "name one, or leave projects out for all")
        _end(session, runner, f"runner {runner} was given a new token")
        token = secrets.token_urlsafe(32)
        ids = sorted(known[name] for name in projects) if projects is not None else None
        session.add(Token(digest=digest_of(token), kind="runner", runner=runner, projects=ids))
        tell(session, "runner")
    return token


def end_pass(site: Site, runner: str) -> None:
    """A runner's token is worth nothing more, and what it runs is taken back. Raises NotFound."""
    with site.store.transaction() as session:
        if not _end(session, runner, f"the token of runner {runner} was revoked"):
            raise NotFound(f"no runner {runner[:80]} has a token of its own")
        tell(session, "runner")


def _end(session: Session, runner: str, why: str) -> bool:
    if not forget_pass(session, runner):
        return False
    row = runner_named(session, runner, lock=True)
    for attempt in open_leases_of(session, row.id) if row is not None else ():
        lose(session, attempt, why)
    return True


def all_passes(site: Site) -> list[RunnerPass]:
    with site.store.transaction() as session:
        names = {p.id: p.name for p in all_projects(session)}
        return [
            RunnerPass(
                t.runner or "",
                sorted(names[i] for i in t.projects if i in names) if t.projects is not None else None,
                t.created_at,
                t.used_at,
            )
            for t in passes(session)
        ]


def bearing_of(site: Site, token: str, runner_id: int | None) -> Bearing | None:
    """Who bears a runner's token; None when it is none. Raises Forbidden when it asks for another runner's work."""
    with site.store.transaction() as session:
        found = pass_with(session, digest_of(token), runner_id)
    if found is None:
        return None
    if found.name is not None:
        _may_be(found.own, found.name, owned=found.owned)
    return Bearing(found.own, found.projects)


def check_name(site: Site, bearing: Bearing, name: str) -> None:
    """A runner enrols under the name of its token. Raises Forbidden."""
    with site.store.transaction() as session:
        plain = name.partition("~")[0]
        _may_be(bearing.runner, plain, owned=has_pass(session, plain))
        if bearing.runner is not None:
            note_use(session, bearing.runner)


def _may_be(own: str | None, name: str, *, owned: bool) -> None:
    if own is not None and name != own:
        raise Forbidden(f"this token is that of runner {own}, not of {name[:80]}", f"start it with --name {own}")
    if own is None and owned:
        raise Forbidden(f"runner {name[:80]} has a token of its own", "start it with that, or under another name")
