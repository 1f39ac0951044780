"""The log as a person reads it: lines, search, what is usual in it."""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.diagnosis.usual import are_usual, line_digest, plain, stretches
from myriant.core.states import State
from myriant.flow.logs import (
    MOST_JUDGED,
    chunk_bytes,
    counted_chunks,
    first_lines,
    line_at,
    lines_from,
    the_attempt,
    unpack_digests,
)
from myriant.flow.site import Site
from myriant.store.attempts import steps_of
from myriant.store.logs import chunks_of_log, usual_lines_of
from myriant.store.tables import Cell, LogChunk, Run

MOST_LINES = 2000  # of one answer


MOST_BYTES = 2 << 20  # of one answer


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


def log_lines(site: Site, attempt_id: int, first: int, count: int) -> LogLines:
    """Lines from `first` (from 1), at most `count`; long lines are cut."""
    with site.store.view() as session:
        attempt = the_attempt(session, attempt_id)
        chunks = counted_chunks(site, session, attempt)
        open_line = bool(chunks) and not chunk_bytes(site, chunks[-1]).endswith(b"\n")
        state = LogState(attempt.log_size, attempt.log_lines + int(open_line), attempt.state != State.RUNNING)
    lines: list[LogLine] = []
    budget = MOST_BYTES
    for number, text, at, size in lines_from(site, chunks, first - 1):
        if len(lines) >= min(count, MOST_LINES) or budget <= 0:
            break
        lines.append(LogLine(number + 1, text.decode("utf-8", "replace"), at, max(0, size - len(text))))
        budget -= len(text) + 40
    return LogLines(state, lines)


def search_log(site: Site, attempt_id: int, text: str) -> Hits:
    """Lines that hold a text, capitals or not, however long they are and however they were delivered."""
    with site.store.view() as session:
        chunks = counted_chunks(site, session, the_attempt(session, attempt_id))
    return hits_in(site, chunks, text, _MOST_HITS)


def hits_in(site: Site, chunks: Sequence[LogChunk], text: str, most: int) -> Hits:
    """As `search_log`, in the pieces of one log; at most so many lines are named, all are counted."""
    wanted = text.lower()
    decoder = codecs.getincrementaldecoder("utf-8")("replace")
    count, newest, number = 0, 0, 1  # the newest line that was found, and the one that stands at `scanned`
    found: list[int] = []
    rest = ""  # the end of a line that goes on in the next piece: as much as a text that is cut there needs
    for chunk in chunks if wanted else ():
        body = rest + decoder.decode(chunk_bytes(site, chunk)).lower()
        scanned, at = 0, body.find(wanted)
        while at >= 0:
            number += body.count("\n", scanned, at)
            if number != newest:
                newest, count = number, count + 1
                if len(found) < most:
                    found.append(number)
            scanned = at
            end = body.find("\n", at)
            at = body.find(wanted, end) if end >= 0 else -1
        number += body.count("\n", scanned)
        rest = body[max(body.rfind("\n") + 1, len(body) - len(wanted) + 1) :]
    return Hits(count, found)


def line_of(site: Site, session: Session, attempt_id: int, number: int) -> str:
    """One line of a log, from 1, as far as it is shown."""
    chunks = counted_chunks(site, session, the_attempt(session, attempt_id))
    text = next((t for n, t, *_ in lines_from(site, chunks, number - 1)), b"")
    return plain(text).decode("utf-8", "replace")[:400]


def usual_lines(site: Site, attempt_id: int) -> Usual:
    """What of a log is usual, where each step's output stands, and where trouble begins."""
    with site.store.view() as session:
        attempt = the_attempt(session, attempt_id)
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        chunks = counted_chunks(site, session, attempt)
        steps = steps_of(session, attempt_id)
        rows = usual_lines_of(session, run.project_id, cell.job)
        known = {row.step: (unpack_digests(row.digests), row.attempts) for row in rows}
    lines = [text for _, text, *_ in first_lines(lines_from(site, chunks, 0), MOST_JUDGED)]
    flags = np.zeros(len(lines), np.bool_)
    told = []
    for step in steps:
        if step.log_from is None:
            continue
        first = line_at(site, chunks, step.log_from)
        last = line_at(site, chunks, step.log_to) if step.log_to is not None else attempt.log_lines
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


def whole_log(site: Site, attempt_id: int) -> Iterator[bytes]:
    """An attempt's log from its beginning to where it is now, piece by piece."""
    with site.store.view() as session:
        the_attempt(session, attempt_id)
        chunks = chunks_of_log(session, attempt_id)
    return (chunk_bytes(site, chunk) for chunk in chunks)
