"""How much of a request is taken: bytes by route, time between pieces, hosts by name, refusals by address."""

from __future__ import annotations

import asyncio
import time
from collections import deque
from collections.abc import Mapping

from starlette.exceptions import HTTPException
from starlette.types import Message, Receive, Scope

from myriant.settings import settings
from myriant.wire.limits import MOST_BODY, MOST_PART, MOST_PIECE

MOST_USUAL = 4 << 20  # of a body of JSON
MOST_WANTED = 16 << 20  # of what git asks for
BODY_SECONDS = 60.0  # between two pieces of a body
BODIES: Mapping[str, int] = {
    "finish": MOST_BODY,
    "put_log": MOST_PIECE,
    "put_record": MOST_PIECE,
    "put_part": MOST_PART,
    "put_cache_part": MOST_PART,
    "put_reports": MOST_BODY,
    "take_sending_piece": MOST_BODY,
    "source_pack": MOST_WANTED,
}
_ADDRESSES = 10_000


def too_long(most: int) -> HTTPException:
    return HTTPException(413, f"a body of more than {most:,} bytes")


def bounded(receive: Receive, most: int) -> Receive:
    """The same messages, as long as their bytes are at most so many and none keeps the server waiting."""
    count, whole = 0, False

    async def next_one() -> Message:
        nonlocal count, whole
        if whole:
            return await receive()
        try:
            message = await asyncio.wait_for(receive(), BODY_SECONDS)
        except TimeoutError as error:
            raise HTTPException(408, "the body did not come") from error
        if message["type"] == "http.request":
            count += len(message.get("body", b""))
            whole = not message.get("more_body", False)
            if count > most:
                raise too_long(most)
        return message

    return next_one


def declared(scope: Scope) -> int:
    """The bytes that a request says it has; 0 when it does not say, or nonsense."""
    for name, value in scope["headers"]:
        if name == b"content-length" and value.isdigit() and len(value) < 19:
            return int(value)
    return 0


def known_hosts(address: str) -> frozenset[str]:
    """Names by which this server may be called: its own address, loopback, and MYRIANT_HOSTS."""
    more = settings().hosts
    own = host_of(address.partition("://")[2].partition("/")[0])
    return frozenset({"127.0.0.1", "localhost", "::1", own, *(h.strip().lower() for h in more.split(",") if h.strip())})


def host_of(header: str) -> str:
    """The name in a Host header, without its port."""
    header = header.strip().lower()
    if header.startswith("["):
        return header[1:].partition("]")[0]
    return header.partition(":")[0]


class Refusals:
    """Counts refusals by address: those of who is refused again and again take a second each."""

    def __init__(self) -> None:
        self._by: dict[str, deque[float]] = {}

    async def note(self, address: str) -> None:
        now = time.monotonic()
        if address not in self._by and len(self._by) >= _ADDRESSES:
            self._by.pop(next(iter(self._by)))
        free = settings().free_refusals  # a minute, before they take their time
        times = self._by.setdefault(address, deque(maxlen=free))
        busy = len(times) == free and now - times[0] < 60
        times.append(now)
        if busy:
            await asyncio.sleep(1)
