"""The door: before a byte of a body is read, the route is known, and who asks may ask for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from fastapi import FastAPI, Request
from fastapi.routing import APIRoute
from starlette.responses import Response
from starlette.routing import Match
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from myriant.api.access import permissions_of
from myriant.api.problems import answer_of, problem

HEADERS: Mapping[str, str] = {
    "Content-Security-Policy": (
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; "
        "base-uri 'none'; form-action 'self'; object-src 'none'"
    ),
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
}


class Door:
    """Pure ASGI: asks the route's permission, answers errors as problems, puts safety headers on every answer."""

    def __init__(self, app: ASGIApp, api: FastAPI, routes: Sequence[APIRoute], prefix: str) -> None:
        self.app, self.api, self.routes, self.prefix = app, api, routes, prefix

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

        refusal = await self._refusal(scope, receive)
        if refusal is not None:
            await refusal(scope, receive, answer)
        else:
            await self.app(scope, receive, answer)

    async def _refusal(self, scope: Scope, receive: Receive) -> Response | None:
        """Why the caller may not ask, None when it may, or when there is no such route."""
        path: str = scope["path"]
        if not path.startswith(f"{self.prefix}/"):
            return None
        if "\0" in path or b"%00" in scope.get("query_string", b""):
            return problem(422, "bad-input", "an address holds a NUL", "leave it out")
        inner = {**scope, "path": path.removeprefix(self.prefix), "root_path": ""}
        for route in self.routes:
            matched, child = route.matches(inner)
            if matched is not Match.FULL:
                continue
            state = scope.setdefault("state", {})
            request = Request({**scope, "app": self.api, "state": state}, receive)
            try:
                for permission in permissions_of(route):
                    await permission.ask(self.api.state.site, request, child["path_params"])
            except Exception as error:
                return answer_of(error)
            return None
        return None
