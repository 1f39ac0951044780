"""Parcels: a body of one or more files, each behind a head of JSON that describes it.

A head is one line, the file's bytes follow, as many as the head's `size` says.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from pydantic import BaseModel, Field, ValidationError

from myriant.core.states import Content
from myriant.wire.limits import MOST_PIECE, MOST_REPORT, MOST_TEXT

MEDIA_TYPE = "application/octet-stream"


class BadParcel(ValueError):
    """A body that is no row of parcels; the text says what is wrong."""


class ReportHead(BaseModel):
    """A file that an attempt delivers. A long one came in `parts` before; its `size` here is 0."""

    number: int = Field(ge=0, le=1_000_000)
    step: int = Field(ge=0, le=100_000)
    content: Content
    kind: str = Field(max_length=200)
    path: str = Field(max_length=MOST_TEXT)
    digest: str = Field(pattern="^[0-9a-f]{64}$")  # SHA-256
    size: int = Field(ge=0, le=MOST_REPORT)
    keep: float | None = Field(None, gt=0)  # seconds
    parts: int = Field(0, ge=0, le=100_000)


class CacheKey(BaseModel):
    """What a cache depends on: digests of files, exact runtimes, the system, what it keeps."""

    renew: dict[str, str]
    runtimes: dict[str, str] = Field(max_length=100)
    system: str = Field(max_length=400)
    keep: list[str]


class CacheHead(BaseModel):
    """An archive to keep, should the attempt pass."""

    name: str = Field(max_length=MOST_TEXT)
    key: CacheKey
    seconds: dict[str, float] = {}  # of the preparing steps
    digest: str = Field(pattern="^[0-9a-f]{64}$")
    parts: int = Field(ge=1, le=100_000)  # that came before


def head_bytes(head: BaseModel) -> bytes:
    return head.model_dump_json().encode("utf-8", "replace") + b"\n"


@dataclass(slots=True)
class HeadReader:
    """Splits a stream into heads and the bytes of the files behind them; memory holds one head at most."""

    kind: type[BaseModel]
    _rest: bytearray = field(default_factory=bytearray)
    _left: int = 0

    def feed(self, data: bytes) -> Iterator[Any]:
        """Heads (models) and pieces (bytes) in their order. Raises BadParcel."""
        self._rest += data
        while self._rest:
            if self._left:
                piece = bytes(self._rest[: self._left])
                del self._rest[: self._left]
                self._left -= len(piece)
                yield piece
                continue
            end = self._rest.find(b"\n")
            if end < 0:
                if len(self._rest) > MOST_PIECE:
                    raise BadParcel(f"a head of more than {MOST_PIECE:,} bytes")
                return
            try:
                head = self.kind.model_validate_json(bytes(self._rest[:end]))
            except ValidationError as error:
                first = error.errors()[0]
                raise BadParcel(f"{'.'.join(map(str, first['loc']))}: {first['msg']}") from error
            del self._rest[: end + 1]
            self._left = int(getattr(head, "size", 0))
            yield head

    def end(self) -> None:
        """Raises BadParcel when the body stopped short."""
        if self._left or self._rest:
            raise BadParcel(f"the body ends {self._left or len(self._rest):,} bytes early")
