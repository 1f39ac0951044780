"""The web application: the API under /api/v1 and the interface for everything else."""

from __future__ import annotations

import asyncio
import logging
import re
import uuid
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Response
from fastapi.responses import FileResponse, JSONResponse
from fastapi.routing import APIRoute
from sqlalchemy.exc import SQLAlchemyError
from starlette.concurrency import run_in_threadpool
from starlette.datastructures import Headers
from starlette.exceptions import HTTPException
from starlette.middleware.gzip import GZipMiddleware
from starlette.staticfiles import StaticFiles
from starlette.types import ASGIApp, Receive, Scope, Send

from myriant import __version__
from myriant.api import (
    attempts,
    batches,
    caches,
    coverage,
    events,
    filters,
    findings,
    foreign,
    live_events,
    plans,
    projects,
    releases,
    runners,
    runs,
    secrets,
    sendings,
    sign_in,
    source,
    tests,
    trends,
    ways,
)
from myriant.api.access import OPEN
from myriant.api.door import Door
from myriant.api.live import Live
from myriant.api.problems import answer_problems
from myriant.api.protocol import attempts as protocol_attempts
from myriant.api.protocol import runners as protocol_runners
from myriant.core.plan.reference import SCHEMA_PATH, schema
from myriant.flow.dispatch.loss import beat
from myriant.flow.site import Site

_log = logging.getLogger(__name__)
_BEAT = 3.0  # seconds
WEB = Path(__file__).parent.parent / "web"
ROUTERS = (
    protocol_attempts.router,
    protocol_runners.router,  # asked most, and looked through in this order
    sign_in.router,
    projects.router,
    plans.router,
    runs.router,
    releases.router,
    coverage.router,
    findings.router,
    tests.router,
    attempts.router,
    runners.router,
    secrets.router,
    caches.router,
    events.router,
    sendings.router,
    source.router,
    filters.router,
    live_events.router,
    ways.router,
    trends.router,
    batches.router,
    foreign.router,
)


PREFIX = "/api/v1"


def api_routes() -> list[APIRoute]:
    """Every route of the API, without its prefix."""
    return [route for router in ROUTERS for route in router.routes if isinstance(route, APIRoute)]


class Interface(StaticFiles):
    """The interface's files; any other address is the interface's own to understand."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        try:
            answer = await super().get_response(path, scope)
        except HTTPException as error:
            if error.status_code != 404 or scope["method"] not in ("GET", "HEAD"):
                raise
            if not (WEB / "index.html").exists():
                raise HTTPException(404, "the interface is not built; run: make setup") from error
            answer = await super().get_response("index.html", scope)
        answer = self._smaller(path, scope, answer)
        lasting = path.startswith("assets/") and answer.status_code == 200
        answer.headers["Cache-Control"] = "public, max-age=31536000, immutable" if lasting else "no-cache"
        return answer

    def _smaller(self, path: str, scope: Scope, answer: Response) -> Response:
        """The compressed form of an asset, where it was built and the reader takes it."""
        if not path.startswith("assets/") or answer.status_code != 200 or "range" in Headers(scope=scope):
            return answer
        taken = {t.split(";")[0].strip() for t in Headers(scope=scope).get("accept-encoding", "").split(",")}
        for coding, ending in (("br", ".br"), ("gzip", ".gz")):
            full, found = self.lookup_path(f"{path}{ending}") if coding in taken else ("", None)
            if found is not None:
                answer = FileResponse(full, stat_result=found, media_type=answer.media_type)
                answer.headers["Content-Encoding"] = coding
                break
        answer.headers["Vary"] = "Accept-Encoding"
        return answer


_LARGE = re.compile(r"/(strip|findings|trends|coverage|tests|projects|desk|difference|timeline|runs/[0-9]+)$")


class Smaller:
    """What screens ask for is compressed on its way; files, logs and streams go as they are."""

    def __init__(self, app: ASGIApp) -> None:
        self.plain, self.compressed = app, GZipMiddleware(app, minimum_size=2048, compresslevel=5)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        of_screens = scope["type"] == "http" and scope["method"] == "GET" and _LARGE.search(scope["path"])
        await (self.compressed if of_screens else self.plain)(scope, receive, send)


async def _beat(site: Site) -> None:
    """Say again and again that this server answers; a database that is away is said nothing to."""
    me = uuid.uuid4().hex
    while True:
        try:
            await run_in_threadpool(beat, site, me)
        except SQLAlchemyError as error:
            _log.warning("the database cannot be told that this server answers: %s", error)
        await asyncio.sleep(_BEAT)


def make_app(site: Site) -> FastAPI:
    """The ASGI application of one site."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.live = Live(site)
        app.state.live.start()
        beating = asyncio.create_task(_beat(site))
        yield
        beating.cancel()
        await app.state.live.stop()

    app = FastAPI(
        title="Myriant",
        version=__version__,
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/v1/openapi.json",
        generate_unique_id_function=lambda route: route.name,
    )
    app.state.site = site
    app.add_middleware(Smaller)
    answer_problems(app)
    for router in ROUTERS:
        app.include_router(router, prefix=PREFIX)

    describe = app.openapi

    def openapi() -> dict[str, Any]:
        """The description without one-line titles, which only repeat the names of the routes."""
        described = describe()
        for path in described["paths"].values():
            for operation in path.values():
                operation.pop("summary", None)
        return described

    app.openapi = openapi  # type: ignore[method-assign]  # FastAPI's documented way to adjust it

    @app.get(SCHEMA_PATH, include_in_schema=False, dependencies=[OPEN])
    def plan_schema() -> JSONResponse:
        return JSONResponse(schema(), media_type="application/schema+json")

    @app.get("/healthz", include_in_schema=False, dependencies=[OPEN])
    def healthy() -> JSONResponse:
        return JSONResponse({"ok": True})

    @app.get("/api/{path:path}", include_in_schema=False, dependencies=[OPEN])
    def no_such_resource(path: str) -> None:
        raise HTTPException(404, f"there is nothing at /api/{path}")

    app.mount("/", Interface(directory=WEB, html=True, check_dir=False))
    build = app.build_middleware_stack

    def outermost() -> ASGIApp:
        """The door stands before everything, also before what answers 500."""
        return Door(build(), api=app, routes=api_routes(), prefix=PREFIX)

    app.build_middleware_stack = outermost  # type: ignore[method-assign]
    return app
