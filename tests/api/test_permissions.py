"""Who may ask for what: every route declares it, the door asks for it, and the docs list it."""

from __future__ import annotations

import asyncio
import json
import os
from pathlib import Path
from types import SimpleNamespace

import httpx
import pytest
from fastapi import APIRouter, FastAPI
from fastapi.routing import APIRoute

from myriant.api.access import permissions_of
from myriant.api.app import api_routes
from myriant.api.door import Door
from myriant.flow.admin.people import ensure_account, make_token
from myriant.flow.who import ROLES
from worlds import World

DOCS = Path(__file__).parents[2] / "docs/routes.md"
OF_NOBODY = {"open", "signed"}
ROUTES = [
    (method, route.path, permissions_of(route)[0].name if permissions_of(route) else "")
    for route in api_routes()
    for method in sorted(route.methods or ())
]


def filled(path: str) -> str:
    """A route's address with something in each place."""
    parts = [
        p if not p.startswith("{") else ("1" if any(w in p for w in ("number", "attempt", "runner", "report")) else "x")
        for p in path.split("/")
    ]
    return "/".join(parts)


def test_every_route_declares_exactly_one_permission() -> None:
    assert [(r.path, r.methods) for r in api_routes() if len(permissions_of(r)) != 1] == []
    assert len(ROUTES) > 80


def test_a_route_that_declares_nothing_is_refused_to_everybody() -> None:
    router, app = APIRouter(), FastAPI()
    app.state.site = SimpleNamespace(address="http://tide.example")

    @router.get("/plain")
    def plain() -> str:
        return "reached"

    app.include_router(router, prefix="/api/v1")
    door = Door(app, api=app, routes=[r for r in router.routes if isinstance(r, APIRoute)], prefix="/api/v1")

    async def ask() -> httpx.Response:
        transport = httpx.ASGITransport(app=door)
        async with httpx.AsyncClient(transport=transport, base_url="http://tide.example/api/v1") as client:
            return await client.get("/plain")

    answer = asyncio.run(ask())
    assert answer.status_code == 403 and "does not say who may ask" in answer.text


def test_the_table_in_the_docs_is_current() -> None:
    lines = [
        "# Routes",
        "",
        "Every route under `/api/v1` with who may ask for it. Made by a test from the routes themselves.",
        "",
    ]
    lines += [
        "| Method | Path | Who |",
        "|---|---|---|",
        *(f"| {m} | `{p}` | {w} |" for m, p, w in sorted(ROUTES, key=lambda r: (r[1], r[0]))),
    ]
    text = "\n".join(lines) + "\n"
    if os.environ.get("MYRIANT_WRITE"):
        DOCS.write_text(text)
    assert DOCS.read_text() == text


@pytest.fixture(scope="module")
def tokens(world: World) -> dict[str, str]:
    site = world.site
    accounts = {role: ensure_account(site, f"a {role}", role) for role in ROLES}
    with site.store.transaction() as session:
        return {role: make_token(session, "command", account=account) for role, account in accounts.items()}


@pytest.mark.parametrize(("method", "path", "who"), [r for r in ROUTES if r[2] not in OF_NOBODY], ids=lambda v: str(v))
def test_a_stranger_and_a_lesser_role_are_refused_before_anything_is_read(
    world: World, tokens: dict[str, str], method: str, path: str, who: str
) -> None:
    lesser = [None, "nonsense", *(tokens[r] for r in ROLES[: ROLES.index(who)])] if who in ROLES else [None, "nonsense"]
    for token in lesser:
        headers = {"Authorization": f"Bearer {token}"} if token else {"Authorization": ""}
        answer = world.http.request(method, filled(path), headers=headers, content=b"{" + b"x" * 100)
        assert answer.status_code in (401, 403, 409), (token, answer.status_code, answer.text)
        known = json.loads(answer.content)["type"]
        assert known in ("/problems/not-signed-in", "/problems/forbidden", "/problems/lease-lost"), known


def test_only_a_maintainer_has_pull_requests_merged(world: World, tokens: dict[str, str]) -> None:
    """Whoever may test them together may not have them merged by that."""
    wish = {"pulls": [1, 2], "merge": True}
    for role in ROLES:
        headers = {"Authorization": f"Bearer {tokens[role]}"}
        answer = world.http.post("/projects/nowhere/batches", json=wish, headers=headers)
        may = ROLES.index(role) >= ROLES.index("maintainer")
        assert answer.status_code == (404 if may else 403), (role, answer.text)


@pytest.mark.parametrize(
    "path",
    [
        "/projects/%00",
        "/attempts/99999999999999",
        "/projects/x%00/strip",
        "/words/%00?project=x",
        "/projects/x/strip?branch=%00",
        "/reports/4294967296/raw",
    ],
)
def test_what_cannot_be_kept_is_refused_in_words(world: World, path: str) -> None:
    answer = world.http.get(path)
    assert answer.status_code in (404, 422) and answer.json()["detail"], answer.text
