"""Who is asking: people by session or command token, runners, hooks and leases by bearer token."""

from __future__ import annotations

from typing import Annotated
from urllib.parse import urlsplit

from fastapi import Depends, HTTPException, Request
from starlette.concurrency import run_in_threadpool

from myriant.flow.keep.people import is_token_of, person_of
from myriant.flow.site import Site
from myriant.flow.who import Person

COOKIE = "myriant"
_SAFE = ("GET", "HEAD", "OPTIONS")


def site_of(request: Request) -> Site:
    site: Site = request.app.state.site
    return site


def bearer(request: Request) -> str:
    scheme, _, token = request.headers.get("authorization", "").partition(" ")
    return token.strip() if scheme.lower() == "bearer" else ""


def _same_origin(request: Request) -> bool:
    origin = request.headers.get("origin")
    return origin is None or urlsplit(origin).netloc == request.headers.get("host")


async def person(request: Request, site: Annotated[Site, Depends(site_of)]) -> Person:
    """The person asking. A session's changes must come from our own pages."""
    token = bearer(request)
    if token:
        found = await run_in_threadpool(person_of, site, token, "command")
    else:
        found = await run_in_threadpool(person_of, site, request.cookies.get(COOKIE, ""), "session")
        if found and request.method not in _SAFE and not _same_origin(request):
            raise HTTPException(403, "this request comes from another site's page")
    if found is None:
        raise HTTPException(401, "you are not signed in; run: myriant sign-in")
    return found


async def runner_token(request: Request, site: Annotated[Site, Depends(site_of)]) -> None:
    if not await run_in_threadpool(is_token_of, site, bearer(request), "runner"):
        raise HTTPException(401, "this is no runner's token; it may have been revoked")


TheSite = Annotated[Site, Depends(site_of)]
ThePerson = Annotated[Person, Depends(person)]
