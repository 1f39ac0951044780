"""When a person wants to hear: quiet hours, news gathered for a time of the week, and what was gathered, in words."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, time, timedelta
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from myriant.core.plan.schedule import ScheduleError, timed
from myriant.core.telling.news import News
from myriant.core.written import counted

_QUIET = re.compile(r"([01]\d|2[0-3]):([0-5]\d)\s*-\s*([01]\d|2[0-3]):([0-5]\d)(?:\s+(\S{1,60}))?")


@dataclass(frozen=True, slots=True)
class Quiet:
    """Hours of each day, by a zone's clocks, in which nothing is told; they may go over midnight."""

    start: time
    end: time
    zone: ZoneInfo

    def ends(self, now: datetime) -> datetime | None:
        """When the quiet that holds now is over, None when none holds. Where clocks jump it never ends before now."""
        local = now.astimezone(self.zone)
        at = local.time()
        over_midnight = self.start > self.end
        holds = (at >= self.start or at < self.end) if over_midnight else self.start <= at < self.end
        if not holds:
            return None
        day = local.date() + timedelta(days=1) if over_midnight and at >= self.start else local.date()
        over = datetime.combine(day, self.end, self.zone).astimezone(UTC)
        return max(over, now + timedelta(minutes=1))


def quiet_of(words: str) -> Quiet:
    """Quiet hours as people write them: "22:00-07:00 Europe/Oslo". Raises ScheduleError."""
    found = _QUIET.fullmatch(words.strip())
    if found is None:
        raise ScheduleError(f'"{words[:80]}" are no quiet hours', 'write for example "22:00-07:00 Europe/Oslo"')
    start, end = time(int(found[1]), int(found[2])), time(int(found[3]), int(found[4]))
    if start == end:
        raise ScheduleError("quiet hours that begin when they end are none", "leave them out, or ask for nothing")
    try:
        return Quiet(start, end, ZoneInfo(found[5] or "UTC"))
    except (ZoneInfoNotFoundError, ValueError, OSError) as error:
        raise ScheduleError(f'there is no time zone "{found[5]}"', 'write for example "Europe/Oslo"') from error


def due(quiet: str, gathered: str, now: datetime) -> datetime | None:
    """When somebody with these wishes hears of what is news now; None: at once. Raises ScheduleError."""
    at = next(timed(gathered).after(now)) if gathered else None
    over = quiet_of(quiet).ends(at or now) if quiet else None
    return over or at


@dataclass(frozen=True, slots=True)
class Piece:
    """A piece of news that was kept for somebody."""

    context: str
    run: int
    news: str
    sentence: str
    address: str


def gathered_text(project: str, pieces: Sequence[Piece]) -> tuple[str, str]:
    """A subject and a text for what was kept, oldest first: a line a context, which ends with what holds now."""
    by_context: dict[str, list[Piece]] = {}
    for piece in pieces:
        by_context.setdefault(piece.context, []).append(piece)
    held = sum(mine[-1].news in (News.HELD, News.MORE) for mine in by_context.values())
    state = (
        f"{counted(held, 'branch or pull request', 'branches or pull requests')} held" if held else "nothing is held"
    )
    lines = [f"{counted(len(pieces), 'piece', 'pieces')} of news of {project} since you heard last: {state}.", ""]
    for context, mine in by_context.items():
        before = [f"{p.news} by #{p.run}" for p in mine[:-1]]
        meanwhile = f" Before that: {', '.join(before)}." if before else ""
        last = mine[-1]
        lines.append(f"- {context}: {last.news} by #{last.run}. {last.sentence}{meanwhile} {last.address}".rstrip())
    return f"{counted(len(pieces), 'piece', 'pieces')} of news, {state}", "\n".join(lines)
