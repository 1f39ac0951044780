"""The stream between runner and porter: a request is a line of JSON, an answer is frames, the last of them its end.

A frame is one byte of kind, four of length (big-endian), and its content.
"""

from __future__ import annotations

import io
import json
import os
import struct

TYPE_CHECKING = False
if TYPE_CHECKING:
    from typing import IO, Any

ENTRY, DATA, ENDED, ANSWER = b"E", b"D", b"Z", b"A"  # of a file: its head, its bytes, its end; then the answer
MOST_FRAME = 1 << 20
MOST_REQUEST = 16 << 20
_HEAD = struct.Struct(">cI")


class BadFrame(Exception):
    """The stream is not what was agreed."""


def write(out: IO[bytes], kind: bytes, content: bytes = b"") -> None:
    out.write(_HEAD.pack(kind, len(content)))
    out.write(content)


def send(out: IO[bytes], source: io.FileIO, size: int) -> int:
    """A frame of the next bytes of a file, `size` of them or as many as there are left; how many."""
    size = min(size, os.fstat(source.fileno()).st_size - source.tell())
    if size <= 0:
        return 0
    out.write(_HEAD.pack(DATA, size))
    out.flush()
    left = size
    while left:
        sent = os.sendfile(out.fileno(), source.fileno(), None, left)  # the kernel copies, this program need not
        if not sent:  # it became shorter meanwhile: what was said is kept
            out.write(bytes(left))
            break
        left -= sent
    return size


def write_json(out: IO[bytes], kind: bytes, value: Any) -> None:
    text = json.dumps(value, separators=(",", ":")).encode()
    if len(text) > MOST_FRAME:
        raise BadFrame(f"an answer of {len(text):,} bytes")
    write(out, kind, text)


def read(source: IO[bytes]) -> tuple[bytes, bytes]:
    """The next frame: kind and content. Raises BadFrame."""
    kind, size = read_head(source)
    return kind, read_whole(source, size)


def read_head(source: IO[bytes]) -> tuple[bytes, int]:
    """What the next frame is, and how long its content, which follows. Raises BadFrame."""
    kind, size = _HEAD.unpack(read_whole(source, _HEAD.size))
    if kind not in (ENTRY, DATA, ENDED, ANSWER) or size > MOST_FRAME:
        raise BadFrame("it holds no frame")
    return kind, size


def read_whole(source: IO[bytes], size: int) -> bytes:
    """So many bytes, however they come. Raises BadFrame."""
    content = source.read(size) if size else b""
    if content and len(content) == size:
        return content
    parts, left = [content], size - len(content)
    while left and (more := source.read(left)):
        parts.append(more)
        left -= len(more)
    if left:
        raise BadFrame("it ended in the middle of a frame")
    return b"".join(parts)


class Framed(io.RawIOBase):
    """The bytes of DATA frames up to ENDED, as a file."""

    def __init__(self, source: IO[bytes]) -> None:
        self._source, self._left, self._over = source, memoryview(b""), False

    def readable(self) -> bool:
        return True

    def readinto(self, into: Any) -> int:
        while not self._left and not self._over:
            kind, content = read(self._source)
            self._over, self._left = kind != DATA, memoryview(content)
        taken = min(len(into), len(self._left))
        into[:taken] = self._left[:taken]
        self._left = self._left[taken:]
        return taken

    def drain(self) -> None:
        """Read what is left, so that the next request is found."""
        while not self._over:
            self._left = memoryview(b"")
            self.readinto(bytearray(1))
