"""The morning page: may the latest build be used, and what happened since yesterday evening."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo

from myriant.core.gate.word import Word
from myriant.core.states import Verdict
from myriant.core.telling.outcome import as_one_line
from myriant.core.written import counted

EVENING = time(18)
MOST_LISTED = 12
LATE = timedelta(minutes=2)


@dataclass(frozen=True, slots=True)
class MorningCause:
    """Why the main line is held now: a cause of failures, with who brought it and who sees to it."""

    finding: str
    title: str
    where: str
    message: str
    new: bool  # first seen since then
    chance: bool  # a control run or its history says so
    run: int  # that saw it first
    author: str  # of that run's commit
    taken: str  # by whom, empty when nobody has


@dataclass(frozen=True, slots=True)
class Turned:
    """A branch, pull request or tag of which something else is said than the evening before."""

    context: str  # "push to main"
    state: str  # held, clear again
    run: int
    title: str
    author: str
    sentence: str


@dataclass(frozen=True, slots=True)
class ScheduleTold:
    """What came of a schedule: it ran (with the run), was missed, or is still to come."""

    name: str
    words: str
    state: str  # ran, missed, comes
    run: int | None
    verdict: str
    said: str
    next_at: datetime


@dataclass(frozen=True, slots=True)
class Build:
    """A commit of the main line, and what is said of it."""

    commit: str
    title: str
    author: str
    run: int
    sentence: str
    at: datetime


@dataclass(frozen=True, slots=True)
class Morning:
    project: str
    branch: str
    at: datetime
    since: datetime
    usable: bool | None  # the newest commit of the main line; None while it is not known
    said: str
    newest: Build | None
    last_clear: Build | None  # the newest that may be used
    causes: list[MorningCause]
    more_causes: int
    turned: list[Turned]
    still_held: int  # branches and pull requests that were held before, and are
    schedules: list[ScheduleTold]
    waiting: list[str]  # approvals that are waited for, as "#81 publish"


def evening_before(now: datetime, zone: ZoneInfo) -> datetime:
    """Six in the evening of the last working day before today, in UTC.

    >>> evening_before(datetime(2026, 11, 30, 7, tzinfo=UTC), ZoneInfo("UTC")).isoformat()
    '2026-11-27T18:00:00+00:00'
    """
    day = now.astimezone(zone).date() - timedelta(days=1)
    while day.isoweekday() > 5:
        day -= timedelta(days=1)
    return datetime.combine(day, EVENING, zone).astimezone(UTC)


def may_be_used(word: Word, newest: Build | None, last_clear: Build | None, branch: str) -> tuple[bool | None, str]:
    """Whether the newest commit of a branch may be used, and why, in words."""
    if newest is None:
        return None, f"Nothing has been tested on {branch} yet."
    before = (
        f" The newest that may be used is {last_clear.commit[:7]} (#{last_clear.run}, {last_clear.title})."
        if last_clear is not None and last_clear.commit != newest.commit
        else " None before it may be used either, as far as is known."
    )
    of = f"{newest.commit[:7]} (#{newest.run}, {newest.title})"
    match word.verdict:
        case Verdict.CLEAR:
            return True, f"Yes: {of} is clear. {_without_verdict(newest.sentence)}"
        case Verdict.EXEMPT:
            return True, f"Yes: {of} changes nothing that is tested. {_without_verdict(newest.sentence)}"
        case Verdict.UNDECIDED:
            return None, f"Not known yet: {of} is being tested.{before}"
        case Verdict.HELD:
            return False, f"No: {of} is held. {_without_verdict(newest.sentence)}{before}"
        case Verdict.NONE:
            return False, f"No: {of} has no verdict.{before}"


def _without_verdict(sentence: str) -> str:
    """A run's sentence after the verdict that was said already."""
    first, colon, rest = sentence.partition(": ")
    said = rest if colon and first.split(" ")[0] in ("Clear", "Held", "Exempt") else sentence
    return said[:1].upper() + said[1:]


def was_missed(due: datetime | None, ran: bool, now: datetime) -> bool:
    """Whether a time that was due has passed without a run."""
    return due is not None and not ran and due <= now - LATE


def morning_text(m: Morning) -> str:
    """All of it as Markdown that reads well as plain text."""
    parts = [m.said]
    new, old = [c for c in m.causes if c.new], [c for c in m.causes if not c.new]
    parts += _listed("New on the main line:", [_cause(c) for c in new], m.more_causes if not old else 0)
    parts += _listed("Still there:", [_cause(c) for c in old], m.more_causes)
    parts += _listed("Became held:", [_turned(t) for t in m.turned if t.state == "held"])
    parts += _listed("Clear again:", [_turned(t) for t in m.turned if t.state != "held"])
    if m.still_held:
        parts.append(f"{counted(m.still_held, 'branch or pull request', 'branches and pull requests')} held as before.")
    parts += _listed("Schedules:", [_schedule(s) for s in m.schedules])
    parts += _listed("Waits for an approval:", list(m.waiting))
    if len(parts) == 1:
        parts.append("Nothing else changed since then.")
    return "\n\n".join(parts) + "\n"


def _listed(title: str, lines: Sequence[str], beyond: int = 0) -> list[str]:
    if not lines:
        return []
    left = max(0, len(lines) - MOST_LISTED) + beyond
    more = [f"- and {left:,} more"] if left else []
    return ["\n".join([title, *(f"- {line}" for line in lines[:MOST_LISTED]), *more])]


def _cause(c: MorningCause) -> str:
    chance = ", perhaps by chance" if c.chance else ""
    taken = f"; {c.taken} sees to it" if c.taken else "; nobody has taken it"
    said = f": {as_one_line(c.message, 120)}" if c.message else ""
    brought = f"since #{c.run} by {as_one_line(c.author, 60)}"
    return f"{as_one_line(c.title, 140)} ({as_one_line(c.where, 80)}){said} — {brought}{chance}{taken}"


def _turned(t: Turned) -> str:
    return f"{t.context} (#{t.run}, {as_one_line(t.title, 80)}, by {as_one_line(t.author, 60)}): {t.sentence}"


def _schedule(s: ScheduleTold) -> str:
    if s.state == "ran":
        return f"{s.name} ran as #{s.run}: {s.verdict or 'no verdict'}{f', {s.said}' if s.said else ''}"
    if s.state == "missed":
        return f"{s.name} was missed ({s.words})"
    return f"{s.name} comes {s.next_at.astimezone(UTC):%Y-%m-%d %H:%M} UTC ({s.words})"
