"""An attempt's log: spooled to a file, sent in pieces while the attempt goes on."""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

PIECE = 512 * 1024
PAUSE = 0.15  # seconds; how far behind the live log may be
MOST_BYTES = 256 << 20


class AttemptLog:
    """Append-only; `send(offset, data, at)` delivers a piece and answers the size that the server has.

    `at` is when the piece was printed, also when it is delivered much later.
    """

    def __init__(self, spool: Path, send: Callable[[int, bytes, str], int], most: int = MOST_BYTES) -> None:
        self._file = spool.open("w+b", buffering=0)
        self._send = send
        self._most = most
        self._sent = 0
        self._times: deque[tuple[int, str]] = deque()  # where a stretch of output began, and when
        self._changed = threading.Condition()
        self._closed = False
        self.size = 0
        self.left_out = 0
        self.error: Exception | None = None
        self._sender = threading.Thread(target=self._deliver, daemon=True)
        self._sender.start()

    def append(self, data: bytes) -> None:
        """Add output; beyond the most that is kept it is only counted."""
        room = self._most - self.size
        if room < len(data):
            self.left_out += len(data) - max(room, 0)
            data = data[: max(room, 0)]
        if data:
            with self._changed:
                now = datetime.now(UTC).isoformat()
                if not self._times or self._times[-1][1][:21] != now[:21]:  # one for each tenth of a second
                    self._times.append((self.size, now))
                self._file.seek(0, 2)
                self._file.write(data)
                self.size += len(data)
                self._changed.notify()

    def say(self, text: str) -> None:
        """Add a line of the runner's own, whatever the size."""
        self._most += len(text.encode()) + 1
        self.append(text.encode() + b"\n")

    def close(self) -> None:
        """Wait until everything is delivered. Raises what the delivery failed with."""
        with self._changed:
            self._closed = True
            self._changed.notify()
        self._sender.join()
        self._file.close()
        if self.error is not None:
            raise self.error

    def _stretch(self) -> tuple[str, int]:
        """When what comes next was printed, and how many bytes of it may go together."""
        while len(self._times) > 1 and self._times[1][0] <= self._sent:
            self._times.popleft()
        most = PIECE
        if self.size - self._sent < PIECE:  # live: a second's output at most goes as one piece
            second = self._times[0][1][:19]
            later = next((begin for begin, at in self._times if begin > self._sent and at[:19] != second), None)
            most = min(PIECE, later - self._sent) if later is not None else PIECE
        return self._times[0][1], most

    def _deliver(self) -> None:
        try:
            while True:
                with self._changed:
                    while self._sent == self.size and not self._closed:
                        self._changed.wait()
                    if self._sent == self.size:
                        return
                    closed = self._closed
                with self._changed:
                    if not closed:
                        self._changed.wait_for(lambda: self._closed, PAUSE)
                    at, most = self._stretch()
                    self._file.seek(self._sent)
                    data = self._file.read(most)
                self._sent = self._send(self._sent, data, at)
        except Exception as error:
            self.error = error
