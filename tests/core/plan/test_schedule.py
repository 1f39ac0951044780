"""Schedules fire when their words say, in their zone, and one that never fires is refused."""

from __future__ import annotations

from datetime import UTC, datetime
from itertools import islice

import pytest

from myriant.core.plan.schedule import ScheduleError, from_cron, in_words


@pytest.mark.parametrize(
    ("words", "now", "expected"),
    [
        (("day", "02:20", "Europe/Oslo"), "2026-11-23T10:00", ["2026-11-24T01:20", "2026-11-25T01:20"]),
        (
            ("day", "02:30", "Europe/Oslo"),
            "2026-03-28T12:00",
            ["2026-03-29T01:30", "2026-03-30T00:30"],
        ),  # skipped by the clocks
        (
            ("day", "02:30", "Europe/Oslo"),
            "2026-10-24T12:00",
            ["2026-10-25T00:30", "2026-10-26T01:30"],
        ),  # comes twice, fires once
        (("hour", ":20", "UTC"), "2026-11-23T10:20", ["2026-11-23T11:20", "2026-11-23T12:20"]),
        (("weekday", "06:00", "UTC"), "2026-11-27T06:00", ["2026-11-30T06:00", "2026-12-01T06:00"]),
        (("sunday", None, "UTC"), "2026-11-23T10:00", ["2026-11-29T00:00", "2026-12-06T00:00"]),
        ("20 2 * * *", "2026-11-23T02:20", ["2026-11-24T02:20", "2026-11-25T02:20"]),
        ("*/20 9-17/4 * * mon-fri", "2026-11-23T09:30", ["2026-11-23T09:40", "2026-11-23T13:00"]),
        ("0 0 29 2 *", "2026-11-23T00:00", ["2028-02-29T00:00", "2032-02-29T00:00"]),
        ("0 0 13 * fri", "2026-11-23T00:00", ["2026-11-27T00:00", "2026-12-04T00:00"]),  # both days given: either fits
        ("5,10 1 1 jan 7", "2026-11-23T00:00", ["2027-01-01T01:05", "2027-01-01T01:10"]),
    ],
)
def test_the_next_times(words: tuple[str, str | None, str] | str, now: str, expected: list[str]) -> None:
    times = from_cron(words) if isinstance(words, str) else in_words(*words)
    found = islice(times.after(datetime.fromisoformat(now).replace(tzinfo=UTC)), 2)
    assert [t.strftime("%Y-%m-%dT%H:%M") for t in found] == expected


@pytest.mark.parametrize(
    ("cron", "said"),
    [
        ("", "five fields"),
        ("* * * *", "five fields"),
        ("@daily", "five fields"),
        ("60 * * * *", "60 is no minute"),
        ("* 24 * * *", "24 is no hour"),
        ("* * 0 * *", "0 is no day of month"),
        ("* * * 13 *", "13 is no month"),
        ("* * * * 8", "8 is no day of week"),
        ("5-1 * * * *", "runs backwards"),
        ("*/0 * * * *", "step of 0"),
        ("a * * * *", "no minute of cron"),
        ("1,,2 * * * *", "no minute of cron"),
        ("99999999999999999999 * * * *", "is no minute"),
        ("0 0 31 4,6,9,11 *", "never fires"),
        ("0 0 30 2 *", "never fires"),
    ],
)
def test_cron_that_is_nonsense_or_never_fires_is_refused(cron: str, said: str) -> None:
    with pytest.raises(ScheduleError, match=said) as found:
        from_cron(cron)
    assert found.value.mend.startswith("write ")


def test_a_date_that_comes_once_in_years_is_still_found() -> None:
    times = from_cron("0 0 29 2 mon")  # both days: every Monday of February and the 29th
    assert next(times.after(datetime(2026, 3, 1, tzinfo=UTC))) == datetime(2027, 2, 1, tzinfo=UTC)
