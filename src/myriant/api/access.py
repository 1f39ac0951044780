"""Who may ask: each route declares one permission, which the door looks at before a byte of the body is read."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from typing import Annotated, Any
from urllib.parse import urlsplit

from fastapi import Depends, HTTPException, Request
from fastapi.routing import APIRoute
from starlette.concurrency import run_in_threadpool

from myriant.core.digits import number_of
from myriant.flow.admin.passes import Bearing, bearing_of
from myriant.flow.admin.people import is_token_of, person_of
from myriant.flow.errors import LeaseLost
from myriant.flow.site import Site
from myriant.flow.state.leases import check_lease
from myriant.flow.who import Person

COOKIE = "myriant"
_SAFE = ("GET", "HEAD", "OPTIONS")
Asked = Callable[[Site, Request, Mapping[str, Any]], Awaitable[None]]


@dataclass(frozen=True)
class Permission:
    """What a caller must show. As a dependency it does nothing: the door has asked already."""

    name: str
    ask: Asked

    async def __call__(self) -> None:
        return None


def site_of(request: Request) -> Site:
    site: Site = request.app.state.site
    return site


def bearer(request: Request) -> str:
    scheme, _, token = request.headers.get("authorization", "").partition(" ")
    return token.strip() if scheme.lower() == "bearer" else ""


def _same_origin(request: Request) -> bool:
    origin = request.headers.get("origin")
    return origin is None or urlsplit(origin).netloc == request.headers.get("host")


def _person_who_is(role: str) -> Asked:
    async def ask(site: Site, request: Request, path: Mapping[str, Any]) -> None:
        """A session's changes must come from our own pages."""
        token = bearer(request)
        if token:
            found = await run_in_threadpool(person_of, site, token, "command")
        else:
            found = await run_in_threadpool(person_of, site, request.cookies.get(COOKIE, ""), "session")
            if found and request.method not in _SAFE and not _same_origin(request):
                raise HTTPException(403, "this request comes from another site's page")
        if found is None:
            raise HTTPException(401, "you are not signed in; run: myriant sign-in")
        if not found.may(role):
            raise HTTPException(403, f"only a {role} can do this")
        request.state.person = found

    return ask


async def _runner(site: Site, request: Request, path: Mapping[str, Any]) -> None:
    """Its own token or the shared one; what a runner of a name asks, only the bearer of its token may."""
    runner = number_of(str(path.get("runner", "")))
    bearing = await run_in_threadpool(bearing_of, site, bearer(request), runner)
    if bearing is None:
        raise HTTPException(401, "this is no runner's token; it may have been revoked")
    request.state.bearing = bearing


async def _hook(site: Site, request: Request, path: Mapping[str, Any]) -> None:
    if not await run_in_threadpool(is_token_of, site, bearer(request), "hook", str(path.get("project", ""))):
        raise HTTPException(401, "this is not the hook's token")


async def _lease(site: Site, request: Request, path: Mapping[str, Any]) -> None:
    """The token of a lease, running or just ended: what it may still do is asked where it is done."""
    attempt = number_of(str(path.get("attempt", "")))
    if attempt is None:
        raise LeaseLost("this lease is not known")
    await run_in_threadpool(check_lease, site, attempt, bearer(request))


async def _open(site: Site, request: Request, path: Mapping[str, Any]) -> None:
    return None


def _declared(name: str, ask: Asked) -> Any:
    return Depends(Permission(name, ask))


VIEWER = _declared("viewer", _person_who_is("viewer"))
MEMBER = _declared("member", _person_who_is("member"))
MAINTAINER = _declared("maintainer", _person_who_is("maintainer"))
ADMIN = _declared("admin", _person_who_is("admin"))
RUNNER = _declared("runner", _runner)
LEASE = _declared("lease", _lease)
HOOK = _declared("hook", _hook)
SIGNED = _declared("signed", _open)  # the signature is over the body: it is looked at once that is read, and short
OPEN = _declared("open", _open)


def permissions_of(route: APIRoute) -> list[Permission]:
    """What a route declares."""
    return [d.call for d in route.dependant.dependencies if isinstance(d.call, Permission)]


def person(request: Request) -> Person:
    """The person asking, as the door has found."""
    found: Person = request.state.person
    return found


def bearing(request: Request) -> Bearing:
    """Whose token a runner has shown, as the door has found."""
    found: Bearing = request.state.bearing
    return found


TheSite = Annotated[Site, Depends(site_of)]
ThePerson = Annotated[Person, Depends(person)]
TheBearing = Annotated[Bearing, Depends(bearing)]
