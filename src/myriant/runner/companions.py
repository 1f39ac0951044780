"""Companions: processes beside the steps, each with a readiness test, a port and a log of its own."""

from __future__ import annotations

import contextlib
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path

from myriant.core.plan.patterns import Pattern, pattern
from myriant.runner.process import Bounds, Ended, Watched
from myriant.wire.lease import CompanionWish

_MOST_LOG = 64 << 20
_LAST = 400  # bytes of its log that are quoted
Command = Callable[
    [CompanionWish | str | list[str], Mapping[str, str], str], tuple[list[str], dict[str, str], Path | None]
]


class CompanionFailed(Exception):
    """A companion did not start, was not ready in time, or died; the text says which and what it said last."""


def variable(name: str) -> str:
    """The variable that tells a companion's port: MYRIANT_DB_PORT."""
    return f"MYRIANT_{name.upper().replace('-', '_')}_PORT"


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def _pattern(wish: CompanionWish) -> Pattern | None:
    try:
        return pattern(wish.ready.line) if wish.ready.line else None
    except ValueError as error:
        raise CompanionFailed(f"companion {wish.name}: {wish.ready.line!r} is no pattern: {error}") from error


class Companion:
    """One companion while it runs."""

    def __init__(
        self,
        wish: CompanionWish,
        command: tuple[list[str], dict[str, str], Path | None],
        log: Path,
        bounds: Bounds,
        keep: Callable[[bytes], bytes],
    ) -> None:
        self.wish, self.log = wish, log
        self._keep = keep
        self._stopped = threading.Event()
        self._line = _pattern(wish)
        self._said = threading.Event()  # the line of its readiness
        self._tail = b""
        self._room = _MOST_LOG
        self.ended: Ended | None = None
        self._file = log.open("wb", buffering=0)
        try:
            self._watched = Watched(*command)
        except OSError as error:
            raise CompanionFailed(f"companion {wish.name} did not start: {error}") from error
        self._thread = threading.Thread(target=self._follow, args=(bounds,), daemon=True)
        self._thread.start()

    def _follow(self, bounds: Bounds) -> None:
        self.ended = self._watched.follow(self._take, float("inf"), bounds, self._stopped)

    def _take(self, data: bytes) -> None:
        shown = self._keep(data)
        self._file.write(shown[: self._room])
        self._room = max(0, self._room - len(shown))
        self._tail = (self._tail + data)[-65536:]
        if self._line is not None and self._line.search(self._tail):
            self._said.set()

    def wait_until_ready(self, probe: Callable[[list[str]], bool], port: int | None, stopped: threading.Event) -> float:
        """Seconds until it was ready. `probe` runs a command where the steps run. Raises CompanionFailed."""
        began = time.monotonic()
        ready, within = self.wish.ready, self.wish.ready.within
        while not stopped.is_set():
            if self.ended is not None:
                raise CompanionFailed(f"companion {self.wish.name} did not start: {self._how()}{self._quoted()}")
            if (
                (self._line is None or self._said.is_set())
                and (not ready.tcp or (port is not None and probe(_TCP(port))))
                and (ready.http is None or (port is not None and probe(_HTTP(port, ready.http))))
                and (ready.command is None or probe(_words(ready.command)))
            ):
                return time.monotonic() - began
            if time.monotonic() - began > within:
                raise CompanionFailed(f"companion {self.wish.name} was not ready in {within:g} s{self._quoted()}")
            stopped.wait(0.05)
        return time.monotonic() - began

    def died(self) -> str:
        """How it ended while it should still run, empty when it runs."""
        if self.ended is None:
            return ""
        return f"companion {self.wish.name} died during the tests: {self._how()}{self._quoted()}"

    def stop(self) -> None:
        """End it: asked first, so that it can tidy up, then killed."""
        if self.ended is None:
            with contextlib.suppress(ProcessLookupError):
                self._watched.process.terminate()
            self._thread.join(0.2)
        self._stopped.set()
        self._watched.kill()
        self._thread.join(10)
        self._file.close()

    def _how(self) -> str:
        assert self.ended is not None
        return self.ended.over or f"it ended with exit status {self.ended.status}"

    def _quoted(self) -> str:
        last = self._keep(self._tail[-_LAST:]).decode("utf-8", "replace").strip().replace("\n", " | ")
        return f"; it said last: {last}" if last else "; it said nothing"


def _TCP(port: int) -> list[str]:
    return [sys.executable, "-S", "-c", f"import socket; socket.create_connection(('127.0.0.1', {port}), 1)"]


def _HTTP(port: int, path: str) -> list[str]:
    url = f"http://127.0.0.1:{port}/{path.lstrip('/')}"
    return [sys.executable, "-S", "-c", f"import urllib.request as u; u.urlopen({url!r}, timeout=2)"]


def _words(command: str | list[str]) -> list[str]:
    return ["/bin/sh", "-e", "-c", command] if isinstance(command, str) else list(command)


def answers(words: list[str], environment: Mapping[str, str] | None = None, folder: Path | None = None) -> bool:
    """Whether a command ends well in ten seconds."""
    try:
        done = subprocess.run(
            words, env=environment, cwd=folder, stdin=subprocess.DEVNULL, capture_output=True, timeout=10, check=False
        )
    except (OSError, subprocess.TimeoutExpired):
        return False
    return done.returncode == 0
