"""Who is refused again and again: counted by where it comes from, whichever port it uses."""

from __future__ import annotations

import asyncio
from contextlib import nullcontext
from types import SimpleNamespace

import httpx
import pytest
from fastapi import FastAPI
from fastapi.routing import APIRoute

from myriant.api.door import Door
from myriant.api.runners import router
from myriant.flow.admin import people


def test_refusals_are_counted_by_address_not_by_connection(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(people, "account_of_token", lambda *_: None)  # nobody has this token
    api = FastAPI()
    store = SimpleNamespace(transaction=nullcontext, view=nullcontext)
    api.state.site = SimpleNamespace(address="http://127.0.0.1:8420", store=store)
    routes = [r for r in router.routes if isinstance(r, APIRoute) and r.path == "/queue"]
    door = Door(api, api, routes, "/api/v1")
    noted: list[str] = []

    async def note(address: str) -> None:
        noted.append(address)

    door._refusals.note = note  # type: ignore[method-assign]

    async def asked() -> None:
        for address, port in (("10.9.8.7", 40001), ("10.9.8.7", 40002), ("10.9.8.6", 40001)):
            transport = httpx.ASGITransport(door, client=(address, port))
            async with httpx.AsyncClient(transport=transport, base_url="http://127.0.0.1:8420") as http:
                assert (await http.get("/api/v1/queue")).status_code == 401

    asyncio.run(asked())
    assert noted == ["10.9.8.7", "10.9.8.7", "10.9.8.6"]
