"""The log of an attempt, kept piece by piece."""

from __future__ import annotations

from datetime import UTC, datetime

import zstandard
from sqlalchemy.orm import Session

from myriant.flow.site import Site
from myriant.flow.state.leases import held
from myriant.store.changes import tell_of_attempt
from myriant.store.tables import Attempt, LogChunk


def keep_log(site: Site, attempt_id: int, token: str, offset: int, data: bytes, at: datetime | None = None) -> int:
    """Keep a piece of log, printed `at` a time, at its offset; the size known so far."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token, lock=True)
        before = attempt.log_size
        size = take_in(site, session, attempt, offset, data, at)
        if size > before:
            tell_of_attempt(session, attempt, "log")
        return size


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
            attempt_id=attempt.id,
            offset=begin,
            size=len(fresh),
            blob=key,
            packed=True,
            first_line=attempt.log_lines,
            lines=ends,
            at=min(at, datetime.now(UTC)) if at is not None else datetime.now(UTC),
        )
    )
    attempt.log_size, attempt.log_lines = begin + len(fresh), attempt.log_lines + ends
    return attempt.log_size
