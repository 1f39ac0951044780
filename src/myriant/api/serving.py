"""Serving HTTP to strangers: a bound on open connections by address, and on the time that a request's head may take."""

from __future__ import annotations

import asyncio
import resource
from collections import Counter
from types import FrameType
from typing import Any

import uvicorn
from starlette.types import ASGIApp
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from myriant.settings import settings

MOST_BY_ADDRESS = 1000
_KEPT_FILES = 400  # descriptors for everything but connections
_open: Counter[str] = Counter()


def most_connections() -> int:
    """Connections that may be open at once, by what this process may open; the limit is raised as far as it goes."""
    _, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = min(hard, 65_536) if hard != resource.RLIM_INFINITY else 65_536
    resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
    return max(100, wanted - _KEPT_FILES)


class Patient(HttpToolsProtocol):
    """Closes what sends no whole head in time, and what comes from an address that holds too many connections."""

    most, most_by_address, seconds = 10_000, MOST_BY_ADDRESS, settings().head_seconds

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        self._address = self.client[0] if self.client else ""
        self._waiting: asyncio.TimerHandle | None = None
        _open[self._address] += 1
        if _open[self._address] > self.most_by_address or _open.total() > self.most:
            transport.abort()
            return
        self._wait()

    def connection_lost(self, exc: Exception | None) -> None:
        self._hear()
        _open[self._address] -= 1
        if not _open[self._address]:
            del _open[self._address]
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        if self._waiting is None and (self.cycle is None or self.cycle.response_complete):
            self._wait()
        super().data_received(data)

    def on_headers_complete(self) -> None:
        self._hear()
        super().on_headers_complete()

    def _wait(self) -> None:
        self._waiting = self.loop.call_later(self.seconds, self._give_up)

    def _hear(self) -> None:
        if self._waiting is not None:
            self._waiting.cancel()
            self._waiting = None

    def _give_up(self) -> None:
        self._waiting = None
        self.transport.abort()


def serve(app: ASGIApp, port: int, **more: Any) -> None:
    """Answer on loopback until a signal ends it."""
    Patient.most = most_connections()
    config = uvicorn.Config(
        app,
        host="127.0.0.1",
        port=port,
        http=Patient,
        log_level="warning",
        access_log=False,
        timeout_graceful_shutdown=1,
        timeout_keep_alive=60,
        server_header=False,
        h11_max_incomplete_event_size=None,
        **more,
    )
    _Server(config).run()


class _Server(uvicorn.Server):
    """One that says to those who wait for news that there will be none, so that it ends without cutting them off."""

    def handle_exit(self, sig: int, frame: FrameType | None) -> None:
        super().handle_exit(sig, frame)
        live = getattr(getattr(self.config.app, "state", None), "live", None)
        if live is not None:
            live.end()
