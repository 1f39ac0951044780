"""What a porter answers: a stream of heads and files."""

from __future__ import annotations

import errno
import hashlib
import io
import json
import os
import subprocess
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Any

from myriant.runner.inside import frames
from myriant.runner.inside.beneath import parts_of
from myriant.runner.inside.find import MOST_FILES as MOST_FILES

MOST_CACHE = 4 << 30
MOST_TAKEN = 20 << 30  # bytes of all files of one call


@dataclass(frozen=True, slots=True)
class Found:
    path: str  # relative to the workspace
    copy: Path

    def digest(self) -> str:
        """SHA-256 of the copy as it lies there now."""
        with self.copy.open("rb") as source:
            return hashlib.file_digest(source, "sha256").hexdigest()


class PorterFailed(Exception):
    """What steps left could not be had; the text says why."""


@dataclass(slots=True)
class Taken:
    """What one glob gave: own copies of fresh files; and the paths of what was not taken."""

    found: list[Found] = field(default_factory=list)
    stale: list[str] = field(default_factory=list)  # not written since the mark
    refused: list[str] = field(default_factory=list)  # too large or unreadable, in words
    odd: list[str] = field(default_factory=list)  # links, sockets, devices
    too_many: int = 0


class Answer:
    """What comes back for one request; it is checked as what a stranger says."""

    def __init__(self, process: subprocess.Popen[bytes]) -> None:
        assert process.stdin is not None and process.stdout is not None
        assert isinstance(process.stdout, io.BufferedReader)
        self._in: IO[bytes] = process.stdin
        self._out = process.stdout.raw  # never through the buffer: content goes from the pipe into files
        self.told: dict[str, Any] = {}

    def ask(self, text: str) -> None:
        self._in.write(text.encode() + b"\n")
        self._in.flush()

    def give(self, piece: bytes | None) -> None:
        """A piece of what the porter reads; None ends it."""
        frames.write(self._in, frames.DATA if piece is not None else frames.ENDED, piece or b"")
        if piece is None:
            self._in.flush()

    def files(self) -> Iterator[tuple[dict[str, Any], _Content]]:
        """Heads of entries with their content, which is read before the next; then `told` is there."""
        while True:
            kind, content = frames.read(self._out)
            if kind == frames.ANSWER:
                self.told = _table(content)
                return
            if kind != frames.ENTRY:
                raise frames.BadFrame("it holds no entry")
            head = _table(content)
            parts_of(head["path"])
            content_of = _Content(self._out, int(head["size"]) if head.get("type") == "file" else None)
            yield head, content_of
            for _ in content_of:
                pass


class _Content:
    """The bytes of one file in the stream, to be read once: piece by piece, or into a file."""

    def __init__(self, source: io.RawIOBase, size: int | None) -> None:
        self._source: Any = source
        self._left = size  # None: nothing follows, or nothing any more

    def __iter__(self) -> Iterator[bytes]:
        while (size := self._next()) is not None:
            yield frames.read_whole(self._source, size)

    def into(self, target: int) -> None:
        """From the pipe into a file, by the kernel where it can. Raises BadFrame, OSError."""
        while (size := self._next()) is not None:
            while size:
                try:
                    moved = os.splice(self._source.fileno(), target, size)
                except OSError as error:
                    if error.errno != errno.EINVAL:
                        raise
                    os.write(target, piece := frames.read_whole(self._source, size))  # a file system without it
                    moved = len(piece)
                if not moved:
                    raise frames.BadFrame("it ended in the middle of a frame")
                size -= moved

    def _next(self) -> int | None:
        """Bytes of the next piece, None at the end."""
        if self._left is None:
            return None
        kind, size = frames.read_head(self._source)
        if kind == frames.ENDED:
            self._left = None
            return None
        self._left -= size
        if kind != frames.DATA or self._left < 0:
            raise frames.BadFrame("a file is longer than was said")
        return size


def _table(content: bytes) -> dict[str, Any]:
    found = json.loads(content)
    if not isinstance(found, dict):
        raise frames.BadFrame("it holds no table")
    return found


def note(mine: Sequence[Taken], path: str, head: dict[str, Any]) -> None:
    for one in mine:
        match head["type"]:
            case "stale":
                one.stale.append(path)
            case "odd":
                one.odd.append(path)
            case "large":
                one.refused.append(f"{path} is larger than may be taken ({int(head['size']):,} bytes)")
            case _:
                one.refused.append(f"{path} cannot be read")


def kept(content: _Content, copy: Path) -> None:
    """Write a file of the runner's own."""
    with copy.open("wb", buffering=0) as target:
        content.into(target.fileno())


def shown(text: Any) -> str:
    """A name of any bytes as text that can be sent."""
    return str(text).encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
