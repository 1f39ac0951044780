"""The stand-in host over HTTP: git's own protocol, an API in JSON, and pages for people."""

from __future__ import annotations

import base64
import hmac
import threading
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime
from html import escape
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs

import uvicorn
from starlette.applications import Starlette
from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import HTMLResponse, JSONResponse, RedirectResponse, Response
from starlette.routing import Route

from myriant.standins import pages
from myriant.standins.host import Host, Outcome, Refused
from myriant.standins.repository import GitRefused, serve_git

MOST_BODY = 64 << 20
Json = dict[str, Any]
Asked = Callable[[Request], Awaitable[Response]]


class Doors:
    """What the host answers; each method of `written` and `read` is one thing that the API does."""

    def __init__(self, host: Host) -> None:
        self.host = host

    # --- the API: what is asked for comes as JSON, names in the path as text

    def add(self, body: Json, _: Json) -> Json:
        return {"name": self.host.add(body["name"], body.get("fork_of", "")).name}

    def rule(self, body: Json, path: Json) -> None:
        self.host.rule(path["name"], body["required"], body.get("protected", []), strict=bool(body.get("strict")))

    def tell(self, body: Json, path: Json) -> None:
        self.host.tell(path["name"], body["address"], body["secret"])

    def outcome(self, body: Json, path: Json) -> None:
        told = {k: str(body.get(k) or "") for k in ("context", "state", "sentence", "address", "base")}
        self.host.say(path["name"], str(body["commit"]), Outcome(**told, at=datetime.now(UTC).isoformat()))

    def open(self, body: Json, path: Json) -> Json:
        return {"number": self.host.open(path["name"], **body).number}

    def write(self, body: Json, path: Json) -> None:
        self.host.write(path["name"], path["number"], str(body["text"]))

    def merge(self, _: Json, path: Json) -> Json:
        return {"commit": self.host.merge(path["name"], path["number"])}

    def close(self, _: Json, path: Json) -> None:
        self.host.close(path["name"], path["number"])

    def change(self, _: Json, path: Json) -> Json:
        name, number = path["name"], path["number"]
        found = self.host.change(name, number)
        return {
            "number": number,
            "title": found.title,
            "state": found.state,
            "head": found.head,
            "text": found.text,
            "in_the_way": self.host.in_the_way(name, number),
            "outcomes": self._said(name, found.head),
        }

    def commit(self, _: Json, path: Json) -> Json:
        row = self.host.repository(path["name"])
        missing = self.host.missing(row, path["commit"], "main")
        return {"may_be_merged": not missing, "in_the_way": missing, "outcomes": self._said(row.name, path["commit"])}

    def _said(self, name: str, commit: str) -> list[Json]:
        said = self.host.repository(name).outcomes.get(commit, {})
        return [
            {"context": o.context, "state": o.state, "sentence": o.sentence, "address": o.address, "at": o.at}
            for o in said.values()
        ]

    # --- how it is asked

    def bears_token(self, request: Request) -> bool:
        """Whether a request bears the host's token, as a bearer or as git's password."""
        kind, _, given = request.headers.get("authorization", "").partition(" ")
        if kind.lower() == "basic":
            try:
                given = base64.b64decode(given).decode("latin-1").partition(":")[2]
            except ValueError:
                return False
        return hmac.compare_digest(given.encode(), self.host.token.encode())

    def api(self, act: Callable[[Json, Json], Json | None], *, reading: bool = False) -> Asked:
        async def answer(request: Request) -> Response:
            if not reading and not self.bears_token(request):
                return JSONResponse({"said": "this is not the host's token"}, 401)
            try:
                body = await request.json() if await request.body() else {}
                told = await run_in_threadpool(act, body, dict(request.path_params))
            except Refused as error:
                return JSONResponse({"said": str(error)}, error.status)
            except (ValueError, KeyError, TypeError, GitRefused) as error:
                return JSONResponse({"said": f"{type(error).__name__}: {error}"}, 422)
            return JSONResponse(told or {})

        return answer

    async def git(self, request: Request) -> Response:
        path, query = request.url.path, request.url.query
        pushes = "git-receive-pack" in f"{path}?{query}"
        if pushes and not self.bears_token(request):
            return Response("who are you?", 401, {"WWW-Authenticate": 'Basic realm="harbour"'})
        body = await request.body()
        if len(body) > MOST_BODY:
            return Response("too much at once", 413)
        served = await run_in_threadpool(
            serve_git,
            self.host.folder,
            request.method,
            path,
            query,
            request.headers,
            body,
            "harbour" if pushes else "",
        )
        if pushes and request.method == "POST":
            await run_in_threadpool(self.host.look)
        return Response(served.body, served.status, served.headers)

    def page(self, make: Callable[[Json], str]) -> Asked:
        async def answer(request: Request) -> Response:
            try:
                return HTMLResponse(await run_in_threadpool(make, dict(request.path_params)))
            except Refused as error:
                return HTMLResponse(escape(str(error)), error.status)

        return answer

    async def pressed(self, request: Request) -> Response:
        """A button of a page: its form carries what the page was given."""
        form = parse_qs((await request.body()).decode("latin-1"))
        name, number = request.path_params["name"], request.path_params["number"]
        if not hmac.compare_digest(form.get("token", [""])[0].encode(), self.host.token.encode()):
            return HTMLResponse("This page is an old one.", 401)
        try:
            await run_in_threadpool(self.host.merge, name, number)
        except Refused as error:
            row, change = self.host.repository(name), self.host.change(name, number)
            return HTMLResponse(pages.pull_request(self.host, row, change, str(error)), error.status)
        return RedirectResponse(f"/{name}/changes/{number}", 303)

    def routes(self) -> list[Route]:
        host, api = self.host, self.api

        def pull(path: Json) -> str:
            return pages.pull_request(host, host.repository(path["name"]), host.change(path["name"], path["number"]))

        at, change = "/api/{name}", "/api/{name}/changes/{number:int}"
        return [
            Route("/", self.page(lambda _: pages.front(host))),
            Route("/{name}.git/{rest:path}", self.git, methods=["GET", "POST"]),
            Route("/api/repositories", api(self.add), methods=["POST"]),
            Route(f"{at}/rules", api(self.rule), methods=["PUT"]),
            Route(f"{at}/events", api(self.tell), methods=["PUT"]),
            Route(f"{at}/outcomes", api(self.outcome), methods=["POST"]),
            Route(f"{at}/commits/{{commit}}", api(self.commit, reading=True)),
            Route(f"{at}/changes", api(self.open), methods=["POST"]),
            Route(change, api(self.change, reading=True)),
            Route(f"{change}/text", api(self.write), methods=["PUT"]),
            Route(f"{change}/merge", api(self.merge), methods=["POST"]),
            Route(f"{change}/close", api(self.close), methods=["POST"]),
            Route("/{name}", self.page(lambda path: pages.repository(host, host.repository(path["name"])))),
            Route("/{name}/changes/{number:int}", self.page(pull)),
            Route("/{name}/changes/{number:int}/merge", self.pressed, methods=["POST"]),
        ]


def serve_host(folder: Path, port: int, token: str = "") -> None:
    """Serve the stand-in host on loopback until it is ended."""
    host = Host(folder, f"http://127.0.0.1:{port}", token)
    worker = threading.Thread(target=host.work, daemon=True)
    worker.start()
    try:
        app = Starlette(routes=Doors(host).routes())
        uvicorn.run(app, host="127.0.0.1", port=port, log_level="warning", access_log=False)
    finally:
        host.end()
        worker.join(2)
