"""The web application: the API under /api/v1 and the interface for everything else."""

from __future__ import annotations

import asyncio
import logging
import uuid
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

from fastapi import FastAPI, HTTPException, Request, Response
from fastapi.responses import FileResponse, JSONResponse
from sqlalchemy.exc import SQLAlchemyError
from starlette.concurrency import run_in_threadpool

from myriant import __version__
from myriant.api import acting, diagnosis, execution, planning, reading, runners
from myriant.api.live import Live
from myriant.api.problems import answer_problems
from myriant.core.plan.reference import SCHEMA_PATH, schema
from myriant.flow.dispatch.loss import beat
from myriant.flow.site import Site

_log = logging.getLogger(__name__)
_BEAT = 2.0  # seconds
WEB = Path(__file__).parent.parent / "web"
_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; "
    "base-uri 'none'; form-action 'self'; object-src 'none'"
)


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
    answer_problems(app)
    routers = (reading.router, acting.router, planning.router, execution.router, diagnosis.router)
    for router in (*routers, planning.told, runners.router):
        app.include_router(router, prefix="/api/v1")

    describe = app.openapi

    def openapi() -> dict[str, Any]:
        """The description without one-line titles, which only repeat the names of the routes."""
        described = describe()
        for path in described["paths"].values():
            for operation in path.values():
                operation.pop("summary", None)
        return described

    app.openapi = openapi  # type: ignore[method-assign]  # FastAPI's documented way to adjust it

    @app.middleware("http")
    async def guard(request: Request, call: Callable[[Request], Awaitable[Response]]) -> Response:
        response = await call(request)
        response.headers.setdefault("Content-Security-Policy", _POLICY)
        response.headers.setdefault("X-Content-Type-Options", "nosniff")
        response.headers.setdefault("Referrer-Policy", "same-origin")
        return response

    @app.get(SCHEMA_PATH, include_in_schema=False)
    def plan_schema() -> JSONResponse:
        return JSONResponse(schema(), media_type="application/schema+json")

    @app.get("/healthz", include_in_schema=False)
    def healthy() -> JSONResponse:
        return JSONResponse({"ok": True})

    @app.get("/api/{path:path}", include_in_schema=False)
    def no_such_resource(path: str) -> None:
        raise HTTPException(404, f"there is nothing at /api/{path}")

    @app.get("/{path:path}", include_in_schema=False, response_model=None)
    def interface(path: str) -> FileResponse:
        """The interface's files; any other address is the interface's own to understand."""
        file = (WEB / path).resolve()
        if path and file.is_file() and file.is_relative_to(WEB):
            lasting = {"Cache-Control": "public, max-age=31536000, immutable"} if path.startswith("assets/") else {}
            return FileResponse(file, headers=lasting)
        if not (WEB / "index.html").exists():
            raise HTTPException(404, "the interface is not built; run: make setup")
        return FileResponse(WEB / "index.html", headers={"Cache-Control": "no-cache"})

    return app
