"""When people hear: quiet hours by their own clocks, gathered news, and what a gathered mail says."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.plan.schedule import ScheduleError
from myriant.core.telling.hearing import Piece, due, gathered_text, quiet_of


def at(text: str) -> datetime:
    return datetime.fromisoformat(text).replace(tzinfo=UTC)


@pytest.mark.parametrize(
    ("quiet", "gathered", "now", "hears"),
    [
        ("", "", "2026-11-30 23:00", None),
        ("22:00-07:00", "", "2026-11-30 21:59", None),
        ("22:00-07:00", "", "2026-11-30 22:00", "2026-12-01 07:00"),
        ("22:00-07:00", "", "2026-12-01 06:59", "2026-12-01 07:00"),
        ("22:00-07:00", "", "2026-12-01 07:00", None),
        ("22:00-07:00 Europe/Oslo", "", "2026-11-30 21:00", "2026-12-01 06:00"),
        ("12:00-13:30", "", "2026-11-30 12:10", "2026-11-30 13:30"),
        ("12:00-13:30", "", "2026-11-30 13:30", None),
        ("22:00-02:30 Europe/Oslo", "", "2026-03-28 22:00", "2026-03-29 01:30"),  # there is no 02:30 that night
        ("22:00-02:30 Europe/Oslo", "", "2026-10-24 22:00", "2026-10-25 00:30"),  # there are two: the first
        ("", "day 08:00", "2026-11-30 08:00", "2026-12-01 08:00"),
        ("", "weekday 08:00 Europe/Oslo", "2026-11-27 12:00", "2026-11-30 07:00"),  # a Friday, told on Monday
        ("22:00-09:00", "day 08:00", "2026-11-30 12:00", "2026-12-01 09:00"),  # gathered in quiet hours: at their end
    ],
)
def test_one_hears_at_once_or_at_the_end_of_what_one_asked_for(
    quiet: str, gathered: str, now: str, hears: str | None
) -> None:
    assert due(quiet, gathered, at(now)) == (at(hears) if hears else None)


@pytest.mark.parametrize(
    "words", ["", "22-7", "22:00-22:00", "25:00-07:00", "22:00-07:00 Nowhere/Land", "a" * 500, "22:00–07:00"]
)
def test_what_are_no_quiet_hours_is_refused_with_a_mend(words: str) -> None:
    with pytest.raises(ScheduleError) as refused:
        quiet_of(words)
    assert refused.value.mend


_ZONES = st.sampled_from(["UTC", "Europe/Oslo", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kathmandu"])


@given(
    st.integers(0, 1439),
    st.integers(1, 1439),
    _ZONES,
    st.datetimes(datetime(2026, 1, 1), datetime(2027, 1, 1), timezones=st.just(UTC)),
)
def test_quiet_ends_later_within_a_day_and_is_over_then(start: int, long: int, zone: str, now: datetime) -> None:
    end = (start + long) % 1440
    quiet = quiet_of(f"{start // 60:02}:{start % 60:02}-{end // 60:02}:{end % 60:02} {zone}")
    over = quiet.ends(now)
    local = now.astimezone(ZoneInfo(zone))
    inside = (local.hour * 60 + local.minute - start) % 1440 < long
    assert (over is not None) == inside
    if over is not None:
        assert now < over <= now + timedelta(hours=26)


def test_a_gathered_mail_has_a_line_a_context_that_ends_with_what_holds() -> None:
    pieces = [
        Piece("push main", 12, "held", "1 test newly fails.", "/12"),
        Piece("push topic", 13, "held", "2 fail.", "/13"),
        Piece("push main", 14, "held by more", "2 tests newly fail.", "/14"),
        Piece("push main", 15, "cleared", "Everything passes.", "/15"),
    ]
    subject, text = gathered_text("lockstep", pieces)
    assert subject == "4 pieces of news, 1 branch or pull request held"
    main = next(line for line in text.splitlines() if line.startswith("- push main"))
    assert main == "- push main: cleared by #15. Everything passes. Before that: held by #12, held by more by #14. /15"
    assert text.count("\n- ") == 2
    assert gathered_text("lockstep", pieces[:1] + pieces[3:])[0] == "2 pieces of news, nothing is held"
