"""Streams of changes: what a browser that went away leaves behind."""

from __future__ import annotations

import asyncio
from types import SimpleNamespace

import pytest

from myriant.api.live import Live
from myriant.flow.views.changes import Change


@pytest.fixture(autouse=True)
def nothing_lately(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("myriant.api.live.missed_since", lambda site, last: [])


def test_a_stream_that_ends_is_forgotten_however_it_ends() -> None:
    async def streams() -> None:
        live = Live(SimpleNamespace())  # type: ignore[arg-type]  # it asks the site nothing here
        opened = [live.stream(None) for _ in range(200)]
        for stream in opened:
            assert "listening" in await anext(stream)
        assert len(live.browsers) == 200
        for stream in opened[:100]:
            await stream.aclose()  # type: ignore[attr-defined]  # a generator
        waiting = [asyncio.ensure_future(anext(stream)) for stream in opened[100:]]
        await asyncio.sleep(0)
        live.end()
        await asyncio.gather(*waiting, return_exceptions=True)
        for stream in opened[100:]:
            await stream.aclose()  # type: ignore[attr-defined]
        assert not live.browsers

    asyncio.run(streams())


def test_who_waits_for_cells_waits_until_it_rings() -> None:
    async def waited() -> None:
        live = Live(SimpleNamespace())  # type: ignore[arg-type]
        await live.wait_for_cells(0.001)  # none came
        waiting = asyncio.ensure_future(live.wait_for_cells(600))
        for _ in range(5):
            await asyncio.sleep(0)
        assert not waiting.done()
        live._ring()
        await asyncio.wait_for(waiting, 60)

    asyncio.run(waited())


def test_what_came_while_a_browser_was_slow_comes_in_one_piece_and_in_order(monkeypatch: pytest.MonkeyPatch) -> None:
    def rows(_: object, ids: list[int]) -> list[Change]:
        return [Change(id=i, kind="run", project="lockstep", run=i) for i in ids]

    async def told() -> str:
        live = Live(SimpleNamespace())  # type: ignore[arg-type]
        stream = live.stream(None)
        await anext(stream)
        for ids in ([1, 2], [3]):
            await live._pass_on(ids)
        piece = await anext(stream)
        await stream.aclose()  # type: ignore[attr-defined]
        return piece

    monkeypatch.setattr("myriant.api.live.changes", rows)
    assert [row for row in asyncio.run(told()).splitlines() if row.startswith("id: ")] == ["id: 1", "id: 2", "id: 3"]


@pytest.mark.parametrize("last", [None, 7])
def test_what_was_missed_or_changed_while_a_page_loaded_comes_first(
    monkeypatch: pytest.MonkeyPatch, last: int | None
) -> None:
    asked = []

    def missed(_: object, since: int | None) -> list[Change]:
        asked.append(since)
        return [Change(id=9, kind="project", project="lockstep", run=None)]

    async def told() -> str:
        stream = Live(SimpleNamespace()).stream(last)  # type: ignore[arg-type]
        await anext(stream)
        piece = await anext(stream)
        await stream.aclose()  # type: ignore[attr-defined]
        return piece

    monkeypatch.setattr("myriant.api.live.missed_since", missed)
    assert asyncio.run(told()).startswith("id: 9\n") and asked == [last]
