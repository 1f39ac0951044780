"""Live events: one PostgreSQL listener a process wakes browsers and waiting runners."""

from __future__ import annotations

import asyncio
import contextlib
import json
import logging
from collections.abc import AsyncIterator

import psycopg
from starlette.concurrency import run_in_threadpool

from myriant.flow.site import Site
from myriant.flow.views.changes import CELLS, CHANGES, Change, changes, missed_since

_log = logging.getLogger(__name__)
_QUIET = 8.0  # seconds between signs of life; a browser gives a silent line up after 20


class Live:
    """Hears NOTIFY and passes it on; ids only travel there, the rows are read once for all browsers."""

    def __init__(self, site: Site) -> None:
        self.site = site
        self.browsers: set[asyncio.Queue[str]] = set()
        self.cells = asyncio.Event()
        self.ending = False
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        self._task = asyncio.create_task(self._listen())

    def end(self) -> None:
        """Nobody waits any longer: the server ends."""
        self.ending = True
        self._ring()
        for queue in self.browsers:
            queue.put_nowait("")

    async def stop(self) -> None:
        if self._task is not None:
            self._task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._task

    async def _listen(self) -> None:
        while True:
            try:
                async with await psycopg.AsyncConnection.connect(self.site.store.url, autocommit=True) as connection:
                    await connection.execute(f"LISTEN {CHANGES}")
                    await connection.execute(f"LISTEN {CELLS}")
                    self._ring()
                    async for notice in connection.notifies():
                        if notice.channel == CELLS:
                            self._ring()
                        else:
                            await self._pass_on([int(notice.payload)])
            except (psycopg.OperationalError, OSError) as error:
                _log.warning("the live listener lost the database, trying again: %s", error)
                await asyncio.sleep(1)

    def _ring(self) -> None:
        self.cells.set()
        self.cells = asyncio.Event()

    async def _pass_on(self, ids: list[int]) -> None:
        if not self.browsers:
            return
        told = "".join(map(_event, await run_in_threadpool(changes, self.site, ids)))  # written once for all
        for queue in self.browsers:
            if queue.qsize() < 1000:
                queue.put_nowait(told)

    async def wait_for_cells(self, seconds: float) -> None:
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self.cells.wait(), seconds)

    async def stream(self, last: int | None) -> AsyncIterator[str]:
        """Server-sent events; what was missed since event id `last`, or lately without one, comes first."""
        queue: asyncio.Queue[str] = asyncio.Queue()
        self.browsers.add(queue)
        try:
            yield "retry: 1000\n: listening\n\n"
            for change in await run_in_threadpool(missed_since, self.site, last):
                yield _event(change)
            while not self.ending:
                try:
                    async with asyncio.timeout(_QUIET):
                        told = [await queue.get()]
                except TimeoutError:
                    told = ["event: alive\ndata: {}\n\n"]
                while not queue.empty():  # with very many who listen several have come meanwhile: in one piece
                    told.append(queue.get_nowait())
                yield "".join(told)
        finally:
            self.browsers.discard(queue)


def _event(change: Change) -> str:
    data = json.dumps({"kind": change.kind, "project": change.project, "run": change.run})
    return f"id: {change.id}\ndata: {data}\n\n"
