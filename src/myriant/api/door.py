"""The door: before a byte of a body is read, the route is known, and who asks may ask for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from fastapi import FastAPI, Request
from fastapi.routing import APIRoute
from starlette.responses import Response
from starlette.routing import Match
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from myriant.api.access import permissions_of
from myriant.api.bounds import (
    BODIES,
    MOST_USUAL,
    Refusals,
    bounded,
    declared,
    host_of,
    known_hosts,
    too_long,
)
from myriant.api.problems import answer_of, problem

HEADERS: Mapping[str, str] = {
    "Content-Security-Policy": (
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; "
        "base-uri 'none'; form-action 'self'; object-src 'none'"
    ),
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
}


def _first_word(path: str) -> str:
    return path.split("/", 2)[1]


class Door:
    """Pure ASGI, outermost: asks the route's permission, bounds the body, answers errors as problems.

    Safety headers stand on every answer.
    """

    def __init__(self, app: ASGIApp, api: FastAPI, routes: Sequence[APIRoute], prefix: str) -> None:
        self.app, self.api, self.prefix = app, api, prefix
        self._routes: dict[str, list[APIRoute]] = {}  # by the first word of their paths: of many, few are looked at
        for route in routes:
            self._routes.setdefault(_first_word(route.path), []).append(route)
        self._hosts: frozenset[str] | None = None
        self._refusals = Refusals()

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return

        async def answer(message: Message) -> None:
            if message["type"] == "http.response.start":
                there = {name.lower() for name, _ in message["headers"]}
                message["headers"] = [
                    *message["headers"],
                    *((n.encode(), v.encode()) for n, v in HEADERS.items() if n.lower().encode() not in there),
                ]
            await send(message)

        route, refusal = await self._asked(scope, receive)
        most = BODIES.get(route.name, MOST_USUAL) if route is not None else MOST_USUAL
        if refusal is None and declared(scope) > most:
            refusal = answer_of(too_long(most))
        if refusal is not None:
            if scope["method"] not in ("GET", "HEAD"):
                refusal.headers["Connection"] = "close"  # the rest of the body is not wanted
            await refusal(scope, receive, answer)
        else:
            await self.app(scope, bounded(receive, most), answer)

    async def _asked(self, scope: Scope, receive: Receive) -> tuple[APIRoute | None, Response | None]:
        """The route, and why the caller may not ask for it, None when it may, or when there is no such route."""
        if self._hosts is None:
            self._hosts = known_hosts(self.api.state.site.address)
        called = next((v.decode("latin-1") for n, v in scope["headers"] if n == b"host"), "")
        if called and host_of(called) not in self._hosts:
            return None, problem(421, "bad-input", "this server is not called that", "name it in MYRIANT_HOSTS")
        path: str = scope["path"]
        if not path.startswith(f"{self.prefix}/"):
            return None, None
        if "\0" in path or b"%00" in scope.get("query_string", b""):
            return None, problem(422, "bad-input", "an address holds a NUL", "leave it out")
        inner = {**scope, "path": path.removeprefix(self.prefix), "root_path": ""}
        for route in self._routes.get(_first_word(inner["path"]), ()):
            matched, child = route.matches(inner)
            if matched is not Match.FULL:
                continue
            state = scope.setdefault("state", {})
            request = Request({**scope, "app": self.api, "state": state}, receive)
            declared_by_route = permissions_of(route)
            if not declared_by_route:
                return route, problem(403, "forbidden", "this route does not say who may ask", "tell its developers")
            try:
                for permission in declared_by_route:
                    await permission.ask(self.api.state.site, request, child["path_params"])
            except Exception as error:
                refusal = answer_of(error)
                if refusal.status_code == 401:
                    await self._refusals.note(scope["client"][0] if scope.get("client") else "")
                return route, refusal
            return route, None
        return None, None
