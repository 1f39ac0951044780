"""Ports of the machine's own loopback that an attempt's network may reach, because the operator named them.

Each is there at the same address inside: a socket that listens in the attempt's network, whose connections are passed
on to the machine's port. Nothing else of the loopback is in that network.
"""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import os
import socket
import threading
from collections.abc import Sequence
from functools import partial

_CLONE_NEWNET = 0x40000000
_PIECE = 64 * 1024
MOST_OPEN = 128  # connections of an attempt at once: each takes two of the runner's files


def named_ports(reachable: str) -> list[int]:
    """The loopback ports among the places that an operator names: 127.0.0.1:8422."""
    words = [word.strip() for word in reachable.split(",")]
    return [int(p) for w in words if w.startswith("127.0.0.1:") and (p := w[10:]).isdigit() and 0 < int(p) < 65536]


class Relay:
    """Passes connections on until it is ended. Raises OSError when a port cannot be opened inside."""

    def __init__(self, pid: int, ports: Sequence[int]) -> None:
        self._inside = [_listening(pid, port) for port in ports]
        self._open = 0
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._run, name="relay", daemon=True)
        self._thread.start()

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        for inside in self._inside:
            port = inside.getsockname()[1]
            self._loop.create_task(asyncio.start_server(partial(self._pass_on, port), sock=inside))
        self._loop.run_forever()
        left = asyncio.all_tasks(self._loop)
        for task in left:
            task.cancel()
        self._loop.run_until_complete(asyncio.gather(*left, return_exceptions=True))
        self._loop.close()

    async def _pass_on(self, port: int, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        if self._open >= MOST_OPEN:
            writer.close()
            return
        self._open += 1
        ends = [writer]
        try:
            there, back = await asyncio.open_connection("127.0.0.1", port)
            ends.append(back)
            await asyncio.gather(_pump(reader, back), _pump(there, writer))
        except (OSError, asyncio.CancelledError):
            pass  # nobody listens there, or the attempt is over
        finally:
            self._open -= 1
            for end in ends:
                end.close()

    def end(self) -> None:
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)
        for inside in self._inside:
            inside.close()


def _listening(pid: int, port: int) -> socket.socket:
    """A socket of another process's network: a thread goes there, opens it, and ends."""
    opened: list[socket.socket | OSError] = []

    def enter() -> None:
        try:
            with open(f"/proc/{pid}/ns/net", "rb") as network:  # noqa: PTH123
                if ctypes.CDLL(None, use_errno=True).setns(network.fileno(), _CLONE_NEWNET):
                    raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))
            opened.append(socket.create_server(("127.0.0.1", port)))
        except OSError as error:
            opened.append(error)

    thread = threading.Thread(target=enter)
    thread.start()
    thread.join()
    found = opened[0]
    if isinstance(found, OSError):
        raise OSError(f"127.0.0.1:{port} cannot be reached from an attempt: {found}") from found
    found.setblocking(False)
    return found


async def _pump(source: asyncio.StreamReader, target: asyncio.StreamWriter) -> None:
    with contextlib.suppress(OSError):
        while data := await source.read(_PIECE):
            target.write(data)
            await target.drain()
        target.write_eof()
