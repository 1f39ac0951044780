"""Outcomes for other programs: CloudEvents 1.0 as JSON, Atom (RFC 4287); schedules as iCalendar (RFC 5545)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from xml.sax.saxutils import escape, quoteattr

_NO_XML = re.compile(r"[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
TYPE = "myriant.outcome.v1"
MOST_TITLE = 300
_WIDEST = 75  # octets of a line of a calendar


@dataclass(frozen=True, slots=True)
class Told:
    """An outcome as it was said once; `id` grows, and is never given twice."""

    id: int
    project: str
    run: int
    context: str
    commit: str
    verdict: str
    news: str  # held, cleared, or empty
    sentence: str
    at: datetime
    address: str  # of the run


def cloud_event(told: Told, source: str) -> dict[str, Any]:
    """An outcome as a CloudEvent; the same outcome always has the same id."""
    return {
        "specversion": "1.0",
        "id": str(told.id),
        "source": source,
        "type": TYPE,
        "subject": told.commit,
        "time": _time(told.at),
        "datacontenttype": "application/json",
        "data": {
            "project": told.project,
            "run": told.run,
            "context": told.context,
            "commit": told.commit,
            "verdict": told.verdict,
            "news": told.news,
            "sentence": told.sentence,
            "address": told.address,
        },
    }


def atom(title: str, address: str, told: Sequence[Told], now: datetime) -> str:
    """A feed of outcomes, the newest first."""
    updated = told[0].at if told else now
    entries = "".join(_entry(t) for t in told)
    return (
        '<?xml version="1.0" encoding="utf-8"?>\n<feed xmlns="http://www.w3.org/2005/Atom">'
        f"<title>{_xml(title)}</title><id>{_xml(address)}</id><updated>{_time(updated)}</updated>"
        f"<link rel={quoteattr('alternate')} href={quoteattr(_plain(address))}/>"
        f"<author><name>Myriant</name></author>{entries}</feed>\n"
    )


def _entry(t: Told) -> str:
    return (
        f"<entry><title>{_xml(f'{t.context}: {t.sentence}'[:MOST_TITLE])}</title>"
        f"<id>{_xml(f'{t.address}#outcome-{t.id}')}</id><updated>{_time(t.at)}</updated>"
        f"<link href={quoteattr(_plain(t.address))}/><category term={quoteattr(_plain(t.verdict))}/>"
        f"<content type={quoteattr('text')}>{_xml(t.sentence)} {_xml(t.commit)}</content></entry>"
    )


def _xml(text: str) -> str:
    return escape(_plain(text))


def _plain(text: str) -> str:
    """Without the characters that no XML 1.0 document can hold."""
    return "".join(
        c for c in text if c in "\t\n\r" or " " <= c <= "\ud7ff" or "\ue000" <= c <= "\ufffd" or c > "\uffff"
    )


def _time(at: datetime) -> str:
    return at.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


@dataclass(frozen=True, slots=True)
class Coming:
    """A time at which a schedule starts a run."""

    schedule: str
    words: str
    at: datetime


def calendar(project: str, address: str, coming: Sequence[Coming], now: datetime) -> str:
    """Schedules as a calendar that can be subscribed to."""
    lines = ["BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:-//Myriant//Schedules//EN", f"X-WR-CALNAME:{_value(project)}"]
    for one in coming:
        start = _stamp(one.at)
        lines += [
            "BEGIN:VEVENT",
            f"UID:{start}-{_value(one.schedule)}-{_value(project)}@myriant",
            f"DTSTAMP:{_stamp(now)}",
            f"DTSTART:{start}",
            "DURATION:PT15M",
            f"SUMMARY:{_value(f'{project}: {one.schedule}')}",
            f"DESCRIPTION:{_value(one.words)}",
            f"URL:{_value(address)}",
            "TRANSP:TRANSPARENT",
            "END:VEVENT",
        ]
    lines.append("END:VCALENDAR")
    return "".join(f"{part}\r\n" for line in lines for part in _folded(line))


def _stamp(at: datetime) -> str:
    return at.astimezone(UTC).strftime("%Y%m%dT%H%M%SZ")


def _value(text: str) -> str:
    """A text in a property: on one line, with what separates values escaped."""
    one = " ".join(text.split())
    return "".join(f"\\{c}" if c in "\\;," else c for c in one if c.isprintable())


def _folded(line: str) -> Iterator[str]:
    """A line in parts of at most 75 octets, no character cut in two; each but the first begins with a blank."""
    part, size = "", 0
    for c in line:
        width = len(c.encode())
        if size + width > _WIDEST:
            yield part
            part, size = " ", 1
        part, size = part + c, size + width
    yield part
