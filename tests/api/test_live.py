"""Streams of changes: what a browser that went away leaves behind."""

from __future__ import annotations

import asyncio
from types import SimpleNamespace

from myriant.api.live import Live


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
