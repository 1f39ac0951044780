"""Logs: taken in piece by piece, stored compressed with their lines counted, read by line, searched."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
import zstandard
from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.diagnosis.usual import Digests, are_usual, digests_of, line_digest, plain, stretches
from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.store.tables import Attempt, Cell, LogChunk, Run, Step, UsualLines

LONGEST_LINE = 20_000  # bytes of a line that are shown; the download has all
MOST_LINES = 2000  # of one answer
MOST_BYTES = 2 << 20  # of one answer
MOST_JUDGED = 200_000  # lines looked at for what is usual
_MOST_KNOWN = 50_000
_LEARNED = 20  # passing attempts of a step after which only some are learned from
_MOST_HITS = 5000
_PROBLEM = re.compile(rb"\b(?:not ok|errors?|failed|failure|traceback|assert\w*|fatal|panic\w*|exception)\b", re.I)


@dataclass(frozen=True, slots=True)
class LogState:
    size: int
    lines: int  # shown lines, an unfinished last one included
    complete: bool


@dataclass(frozen=True, slots=True)
class LogLine:
    number: int  # from 1
    text: str
    at: datetime  # when its piece was printed
    longer: int  # bytes that are not shown


@dataclass(frozen=True, slots=True)
class LogLines:
    state: LogState
    lines: list[LogLine]


@dataclass(frozen=True, slots=True)
class Stretch:
    """Lines `first` to `last` (from 1) that passing runs of the step print too."""

    first: int
    last: int


@dataclass(frozen=True, slots=True)
class StepLines:
    """Where a step's output begins and ends, in lines."""

    position: int
    first: int
    last: int


@dataclass(frozen=True, slots=True)
class Usual:
    stretches: list[Stretch]
    judged: int  # lines looked at
    passing: int  # attempts that it is known from
    problem: int | None  # the first line that is not usual and speaks of trouble
    steps: list[StepLines]


@dataclass(frozen=True, slots=True)
class Hits:
    count: int  # lines
    lines: list[int]  # the first of them, from 1


def take_in(site: Site, session: Session, attempt: Attempt, offset: int, data: bytes, at: datetime | None) -> int:
    """Keep a piece of log at its offset; the size known so far. The same piece again changes nothing."""
    if offset > attempt.log_size:
        return attempt.log_size  # a piece is missing: the runner sends from here
    fresh = data[attempt.log_size - offset :]
    if not fresh:
        return attempt.log_size
    begin = attempt.log_size
    key = f"logs/{attempt.id}/{begin:014d}"
    site.blobs.put(key, [zstandard.ZstdCompressor(level=3).compress(fresh)])
    ends = fresh.count(b"\n")
    session.add(
        LogChunk(
            attempt_id=attempt.id, offset=begin, size=len(fresh), blob=key, packed=True, first_line=attempt.log_lines,
            lines=ends, at=min(at, datetime.now(UTC)) if at is not None else datetime.now(UTC),
        )
    )  # fmt: skip
    attempt.log_size, attempt.log_lines = begin + len(fresh), attempt.log_lines + ends
    return attempt.log_size


def _chunks(session: Session, attempt_id: int) -> Sequence[LogChunk]:
    query = select(LogChunk).where(LogChunk.attempt_id == attempt_id).order_by(LogChunk.offset)
    return session.scalars(query).all()


def chunk_bytes(site: Site, chunk: LogChunk) -> bytes:
    data = site.blobs.get(chunk.blob)
    return zstandard.ZstdDecompressor().decompress(data, max_output_size=chunk.size) if chunk.packed else data


def _attempt(session: Session, attempt_id: int) -> Attempt:
    found = session.get(Attempt, attempt_id)
    if found is None:
        raise NotFound(f"there is no attempt {attempt_id}")
    return found


def log_lines(site: Site, attempt_id: int, first: int, count: int) -> LogLines:
    """Lines from `first` (from 1), at most `count`; long lines are cut."""
    with site.store.transaction() as session:
        attempt = _attempt(session, attempt_id)
        chunks = _counted(site, session, attempt)
        open_line = bool(chunks) and not chunk_bytes(site, chunks[-1]).endswith(b"\n")
        state = LogState(attempt.log_size, attempt.log_lines + int(open_line), attempt.state != "running")
    lines: list[LogLine] = []
    budget = MOST_BYTES
    for number, text, at, size in _lines(site, chunks, first - 1):
        if len(lines) >= min(count, MOST_LINES) or budget <= 0:
            break
        lines.append(LogLine(number + 1, text.decode("utf-8", "replace"), at, max(0, size - len(text))))
        budget -= len(text) + 40
    return LogLines(state, lines)


def _counted(site: Site, session: Session, attempt: Attempt) -> Sequence[LogChunk]:
    """The pieces with their lines counted, also those of a log that was taken in before lines were."""
    chunks = _chunks(session, attempt.id)
    if attempt.log_size and not attempt.log_lines and any(not c.packed for c in chunks):
        total = 0
        for chunk in chunks:
            chunk.first_line, chunk.lines = total, chunk_bytes(site, chunk).count(b"\n")
            total += chunk.lines
        attempt.log_lines = total
    return chunks


def _lines(site: Site, chunks: Sequence[LogChunk], start: int) -> Iterator[tuple[int, bytes, datetime, int]]:
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


def search(site: Site, attempt_id: int, text: str) -> Hits:
    """Lines that hold a text, capitals or not."""
    wanted = text.lower().encode()
    with site.store.transaction() as session:
        chunks = _counted(site, session, _attempt(session, attempt_id))
    count = 0
    found: list[int] = []
    number, rest = 0, b""
    for chunk in chunks if wanted else ():
        data = rest + chunk_bytes(site, chunk).lower()
        cut = data.rfind(b"\n") + 1
        body, rest = data[:cut], data[cut:][-LONGEST_LINE:]
        at = body.find(wanted)
        scanned = 0
        while at >= 0:
            number += body.count(b"\n", scanned, at)
            count += 1
            if len(found) < _MOST_HITS:
                found.append(number + 1)
            end = body.find(b"\n", at)
            scanned = at
            at = body.find(wanted, end) if end >= 0 else -1
        number += body.count(b"\n", scanned)
    if wanted and wanted in rest:
        count += 1
        found.append(number + 1)
    return Hits(count, found[:_MOST_HITS])


def usual(site: Site, attempt_id: int) -> Usual:
    """What of a log is usual, where each step's output stands, and where trouble begins."""
    with site.store.transaction() as session:
        attempt = _attempt(session, attempt_id)
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        chunks = _counted(site, session, attempt)
        steps = session.scalars(select(Step).where(Step.attempt_id == attempt_id).order_by(Step.position)).all()
        rows = session.scalars(
            select(UsualLines).where(UsualLines.project_id == run.project_id, UsualLines.job == cell.job)
        )
        known = {row.step: (_unpacked(row.digests), row.attempts) for row in rows}
    lines = [text for _, text, *_ in _some(_lines(site, chunks, 0), MOST_JUDGED)]
    flags = np.zeros(len(lines), np.bool_)
    told = []
    for step in steps:
        if step.log_from is None:
            continue
        first = _line_at(site, chunks, step.log_from)
        last = _line_at(site, chunks, step.log_to) if step.log_to is not None else attempt.log_lines
        told.append(StepLines(step.position, first + 1, max(first + 1, last)))
        if step.name in known and first < len(lines):
            part = np.fromiter((line_digest(line) for line in lines[first:last]), np.uint64)
            flags[first : first + len(part)] = are_usual(part, known[step.name][0])
    problem = next(
        (i + 1 for i, line in enumerate(lines) if not flags[i] and _PROBLEM.search(plain(line))),
        None,
    )
    passing = max((attempts for _, attempts in known.values()), default=0)
    return Usual([Stretch(a + 1, b) for a, b in stretches(flags)], len(lines), passing, problem, told)


def _some(lines: Iterator[tuple[int, bytes, datetime, int]], most: int) -> Iterator[tuple[int, bytes, datetime, int]]:
    for row, _ in zip(lines, range(most), strict=False):
        yield row


def _line_at(site: Site, chunks: Sequence[LogChunk], offset: int) -> int:
    """The number (from 0) of the line that begins at or holds a byte."""
    chunk = next((c for c in chunks if c.offset <= offset < c.offset + c.size), None)
    if chunk is None:
        return chunks[-1].first_line + chunks[-1].lines if chunks and offset else 0
    return chunk.first_line + chunk_bytes(site, chunk)[: offset - chunk.offset].count(b"\n")


def learn_usual(site: Site, attempt_id: int) -> None:
    """Remember what a passing attempt printed, step by step. Running twice adds nothing new."""
    with site.store.transaction() as session:
        attempt = _attempt(session, attempt_id)
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        known = dict(
            session.execute(
                select(UsualLines.step, UsualLines.attempts)
                .where(UsualLines.project_id == run.project_id, UsualLines.job == cell.job)
            ).tuples().all()
        )  # fmt: skip
        if known and min(known.values()) >= _LEARNED and attempt_id % _LEARNED:
            return  # enough is known: one attempt in so many keeps it fresh
        chunks = _counted(site, session, attempt)
        steps = session.scalars(select(Step).where(Step.attempt_id == attempt_id)).all()
    found: dict[str, Digests] = {}
    for step in steps:
        if step.log_from is not None and step.log_to is not None and step.log_to > step.log_from:
            first, last = _line_at(site, chunks, step.log_from), _line_at(site, chunks, step.log_to)
            rows = _some(_lines(site, chunks, first), min(last - first, MOST_JUDGED))
            found[step.name] = digests_of(text for _, text, *_ in rows)
    for name, digests in sorted(found.items()):
        with site.store.transaction() as session:
            session.execute(
                insert(UsualLines)
                .values(project_id=run.project_id, job=cell.job, step=name, digests=_packed(digests[:0]), attempts=0)
                .on_conflict_do_nothing()
            )
            row = session.get_one(UsualLines, (run.project_id, cell.job, name), with_for_update=True)
            before = _unpacked(row.digests)
            fresh = digests[~are_usual(digests, before)]
            if len(fresh) and len(before) < _MOST_KNOWN:
                row.digests = _packed(np.union1d(before, fresh[: _MOST_KNOWN - len(before)]))
            row.attempts += 1


def _packed(digests: Digests) -> bytes:
    return zstandard.ZstdCompressor(level=3).compress(digests.astype("<u8").tobytes())


def _unpacked(data: bytes) -> Digests:
    return np.frombuffer(zstandard.ZstdDecompressor().decompress(data), "<u8").astype(np.uint64)


def piece(site: Site, attempt_id: int, start: int, most: int) -> tuple[bytes, int, bool]:
    """Bytes of an attempt's log from `start`, at most `most`; the log's size so far; whether it is complete."""
    with site.store.transaction() as session:
        row = _attempt(session, attempt_id)
        chunks = session.scalars(
            select(LogChunk)
            .where(
                LogChunk.attempt_id == attempt_id,
                LogChunk.offset + LogChunk.size > start,
                LogChunk.offset < start + most,
            )
            .order_by(LogChunk.offset)
        ).all()
        size, complete = row.log_size, row.state != "running"
    found = bytearray()
    for chunk in chunks:
        found += chunk_bytes(site, chunk)[max(0, start - chunk.offset) :]
    return bytes(found[:most]), size, complete


def whole(site: Site, attempt_id: int) -> Iterator[bytes]:
    """An attempt's log from its beginning to where it is now, piece by piece."""
    with site.store.transaction() as session:
        _attempt(session, attempt_id)
        chunks = _chunks(session, attempt_id)
    return (chunk_bytes(site, chunk) for chunk in chunks)
