"""Schedules: in words or as cron, in a time zone, and when they come next.

Cron fields are minute, hour, day of month, month and day of week (0 or 7 is Sunday; names of three letters are
read too), with `*`, ranges, steps and lists, as in POSIX crontab(5); when both days are restricted, either fits.
"""

from __future__ import annotations

import re
from calendar import monthrange
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, date, datetime, time, timedelta
from functools import lru_cache
from zoneinfo import ZoneInfo, available_timezones

from myriant.core.digits import number_of

DAYS = ("monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday")
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_WEEK = ("sun", "mon", "tue", "wed", "thu", "fri", "sat")
_FIELDS = (("minute", 0, 59), ("hour", 0, 23), ("day of month", 1, 31), ("month", 1, 12), ("day of week", 0, 7))
_LEAP_CYCLE = 8  # years that hold a 29 February whatever the start


class ScheduleError(ValueError):
    """A schedule that cannot be read or never fires; `mend` says what to write."""

    def __init__(self, message: str, mend: str) -> None:
        super().__init__(message)
        self.mend = mend


@dataclass(frozen=True, slots=True)
class Times:
    """The local minutes at which something fires."""

    minutes: frozenset[int]
    hours: frozenset[int]
    days: frozenset[int]
    months: frozenset[int]
    week: frozenset[int]  # 0 is Sunday
    either_day: bool
    zone: str
    words: str

    def fits_day(self, day: date) -> bool:
        if day.month not in self.months:
            return False
        of_month, of_week = day.day in self.days, day.isoweekday() % 7 in self.week
        return (of_month or of_week) if self.either_day else (of_month and of_week)

    def after(self, moment: datetime) -> Iterator[datetime]:
        """The moments (UTC) after `moment`, one after another; ends after eight years without one.

        A local time that the clocks skip fires when they have jumped; one that comes twice fires once.
        """
        zone = zone_of(self.zone)
        day = moment.astimezone(zone).date()
        last, idle = moment, 0
        while idle < 366 * _LEAP_CYCLE:
            if self.fits_day(day):
                for hour in sorted(self.hours):
                    for minute in sorted(self.minutes):
                        local = datetime.combine(day, time(hour, minute), zone)
                        at = local.astimezone(UTC)
                        if at > last:
                            last, idle = at, 0
                            yield at
            day += timedelta(days=1)
            idle += 1


def zone_of(name: str) -> ZoneInfo:
    """A time zone by its name. Raises ScheduleError."""
    try:
        return ZoneInfo(name)
    except (KeyError, ValueError, OSError) as error:
        raise ScheduleError(f'"{name[:80]}" is no time zone', 'write one like "Europe/Oslo" or "UTC"') from error


@lru_cache(maxsize=1)
def zone_names() -> tuple[str, ...]:
    return tuple(sorted(available_timezones()))


def in_words(every: str, at: str | None, zone: str = "UTC") -> Times:
    """A schedule from its words. Raises ScheduleError."""
    zone_of(zone)
    everything = frozenset(range(24)), frozenset(range(1, 32)), frozenset(range(1, 13))
    if every == "hour":
        match = re.fullmatch(r":([0-5]\d)", at or ":00")
        if match is None:
            raise ScheduleError(f'"{(at or "")[:80]}" is no minute of the hour', 'write at = ":20"')
        minute = frozenset({int(match[1])})
        words = f"every hour at :{match[1]}, {zone}"
        return Times(minute, *everything, frozenset(range(7)), False, zone, words)
    match = re.fullmatch(r"([01]\d|2[0-3]):([0-5]\d)", at or "00:00")
    if match is None:
        raise ScheduleError(f'"{(at or "")[:80]}" is no time of day', _time_mend(at or ""))
    week = {"day": range(7), "weekday": range(1, 6)}.get(every) or [(DAYS.index(every) + 1) % 7]
    words = f"every {every} at {match[0]}, {zone}"
    return Times(
        frozenset({int(match[2])}), frozenset({int(match[1])}), *everything[1:], frozenset(week), False, zone, words
    )


def timed(words: str) -> Times:
    """A time in a few words: "weekday 07:30 Europe/Oslo", "monday 06:00". Raises ScheduleError."""
    parts = words.split()
    if len(parts) not in (2, 3) or parts[0] not in ("day", "weekday", *DAYS):
        raise ScheduleError(f"{words[:80]!r} says no time", 'write for example "weekday 07:30 Europe/Oslo"')
    return in_words(parts[0], parts[1], parts[2] if len(parts) == 3 else "UTC")


def _time_mend(at: str) -> str:
    loose = re.fullmatch(r"\s*(\d{1,2})[:.h]?(\d{2})?\s*(am|pm)?\s*", at.lower())
    if loose:
        hour = int(loose[1]) % 12 + 12 if loose[3] == "pm" else int(loose[1])
        minute = int(loose[2] or 0)
        if hour < 24 and minute < 60:
            return f'write "{hour:02}:{minute:02}"'
    return 'write hours and minutes: "02:20"'


def from_cron(text: str, zone: str = "UTC") -> Times:
    """A schedule from cron's five fields. Raises ScheduleError, also for one that never fires."""
    zone_of(zone)
    fields = text.split()
    if len(fields) != 5:
        raise ScheduleError(
            f"cron takes five fields, this has {len(fields)}",
            'write minute, hour, day of month, month, day of week: "20 2 * * *"',
        )
    sets = [_field(f, *spec) for f, spec in zip(fields, _FIELDS, strict=True)]
    week = frozenset(d % 7 for d in sets[4])
    either = fields[2] != "*" and fields[4] != "*"
    times = Times(sets[0], sets[1], sets[2], sets[3], week, either, zone, f'cron "{" ".join(fields)}", {zone}')
    longest = max(monthrange(2024, m)[1] for m in times.months)
    if not either and min(times.days) > longest:
        raise ScheduleError("this never fires: no such month has that day", f"write a day of month up to {longest}")
    return times


def _field(text: str, name: str, low: int, high: int) -> frozenset[int]:
    found: set[int] = set()
    for part in text.lower().split(","):
        match = re.fullmatch(r"(\*|[a-z]{3}|\d+)(?:-([a-z]{3}|\d+))?(?:/(\d+))?", part)
        if match is None:
            raise ScheduleError(
                f'"{part[:40]}" is no {name} of cron', f"write *, a number from {low} to {high}, or 1-5"
            )
        first, last, step = match.groups()
        if step is not None and not 0 < int(step[:6]) <= high:
            raise ScheduleError(f"a step of {step[:20]} is no step for {name}", f"write a step from 1 to {high}")
        begin = low if first == "*" else _number(first, name, low, high)
        single = high if first == "*" or step else begin
        end = single if last is None else _number(last, name, low, high)
        if end < begin:
            raise ScheduleError(f"{name} {part[:40]} runs backwards", f"write {last}-{first} or two parts with a comma")
        found.update(range(begin, end + 1, int(step or 1)))
    return frozenset(found)


def _number(text: str, name: str, low: int, high: int) -> int:
    if text in _MONTHS and name == "month":
        return _MONTHS.index(text) + 1
    if text in _WEEK and name == "day of week":
        return _WEEK.index(text)
    value = number_of(text)
    if value is None or not low <= value <= high:
        raise ScheduleError(f"{text[:40]} is no {name}", f"write a number from {low} to {high}")
    return value
