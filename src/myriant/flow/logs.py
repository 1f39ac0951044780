"""Stored logs, read by line and by byte."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

import numpy as np
import zstandard
from sqlalchemy.orm import Session

from myriant.core.diagnosis.usual import Digests
from myriant.core.states import State
from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.store.logs import chunks_of_log, chunks_within
from myriant.store.tables import Attempt, LogChunk

LONGEST_LINE = 20_000  # bytes of a line that are shown; the download has all


MOST_JUDGED = 200_000  # lines looked at for what is usual


def chunk_bytes(site: Site, chunk: LogChunk) -> bytes:
    data = site.blobs.get(chunk.blob)
    return zstandard.ZstdDecompressor().decompress(data, max_output_size=chunk.size) if chunk.packed else data


def the_attempt(session: Session, attempt_id: int) -> Attempt:
    found = session.get(Attempt, attempt_id)
    if found is None:
        raise NotFound(f"there is no attempt {attempt_id}")
    return found


def counted_chunks(site: Site, session: Session, attempt: Attempt) -> Sequence[LogChunk]:
    """The pieces with their lines counted, also those of a log that was taken in before lines were."""
    chunks = chunks_of_log(session, attempt.id)
    if attempt.log_size and not attempt.log_lines and any(not c.packed for c in chunks):
        total = 0
        for row in (attempt, *chunks):
            session.expunge(row)  # it is counted for this answer
        for chunk in chunks:
            chunk.first_line, chunk.lines = total, chunk_bytes(site, chunk).count(b"\n")
            total += chunk.lines
        attempt.log_lines = total
    return chunks


def lines_from(site: Site, chunks: Sequence[LogChunk], start: int) -> Iterator[tuple[int, bytes, datetime, int]]:
    """Lines from number `start` (from 0): number, text without its end and cut, time, full size."""
    if not chunks:
        return
    at = next((i for i, c in enumerate(chunks) if c.first_line + c.lines >= start), None)
    if at is None:
        return
    number = chunks[at].first_line
    text, size, when = bytearray(), 0, chunks[at].at
    for chunk in chunks[at:]:
        if not chunk.lines and len(text) > LONGEST_LINE:
            size += chunk.size
            continue
        pieces = chunk_bytes(site, chunk).split(b"\n")
        for i, piece in enumerate(pieces):
            if i:
                if number >= start:
                    yield number, bytes(text[:LONGEST_LINE]), when, size
                number, text, size, when = number + 1, bytearray(), 0, chunk.at
            if number >= start and len(text) <= LONGEST_LINE:
                text += piece[: LONGEST_LINE + 1]
            size += len(piece)
    if number >= start and size:
        yield number, bytes(text[:LONGEST_LINE]), when, size


def first_lines(
    lines: Iterator[tuple[int, bytes, datetime, int]], most: int
) -> Iterator[tuple[int, bytes, datetime, int]]:
    for row, _ in zip(lines, range(most), strict=False):
        yield row


def line_at(site: Site, chunks: Sequence[LogChunk], offset: int) -> int:
    """The number (from 0) of the line that begins at or holds a byte."""
    chunk = next((c for c in chunks if c.offset <= offset < c.offset + c.size), None)
    if chunk is None:
        return chunks[-1].first_line + chunks[-1].lines if chunks and offset else 0
    return chunk.first_line + chunk_bytes(site, chunk)[: offset - chunk.offset].count(b"\n")


def pack_digests(digests: Digests) -> bytes:
    return zstandard.ZstdCompressor(level=3).compress(digests.astype("<u8").tobytes())


def unpack_digests(data: bytes) -> Digests:
    return np.frombuffer(zstandard.ZstdDecompressor().decompress(data), "<u8").astype(np.uint64)


def log_piece(site: Site, attempt_id: int, start: int, most: int) -> tuple[bytes, int, bool]:
    """Bytes of an attempt's log from `start`, at most `most`; the log's size so far; whether it is complete."""
    with site.store.transaction() as session:
        row = the_attempt(session, attempt_id)
        chunks = chunks_within(session, attempt_id, start, start + most)
        size, complete = row.log_size, row.state != State.RUNNING
    found = bytearray()
    for chunk in chunks:
        found += chunk_bytes(site, chunk)[max(0, start - chunk.offset) :]
    return bytes(found[:most]), size, complete
