"""The morning page: which answer follows from what is said of the main line, and what its text leaves out."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest

from myriant.core.gate.word import Word
from myriant.core.states import Verdict
from myriant.core.telling.morning import (
    LATE,
    MOST_LISTED,
    Build,
    Morning,
    MorningCause,
    ScheduleTold,
    Turned,
    evening_before,
    may_be_used,
    morning_text,
    was_missed,
)

NOW = datetime(2026, 11, 26, 7, tzinfo=UTC)  # a Thursday
HEAD = Build("b" * 40, "Draw the ruler", "Tobias Wrenfield", 81, "Held: 1 test newly fails.", NOW)
BEFORE = Build("a" * 40, "Level the gauge", "Ada Fen", 79, "Clear: 73 of 73 tests passed.", NOW)


@pytest.mark.parametrize(
    ("verdict", "newest", "clear", "usable", "said"),
    [
        (
            Verdict.CLEAR,
            replace(HEAD, sentence=BEFORE.sentence),
            HEAD,
            True,
            "Yes: bbbbbbb (#81, Draw the ruler) is clear. 73 of 73 tests passed.",
        ),
        (
            Verdict.EXEMPT,
            replace(HEAD, sentence="Exempt: words only."),
            HEAD,
            True,
            "Yes: bbbbbbb (#81, Draw the ruler) changes nothing that is tested. Words only.",
        ),
        (
            Verdict.HELD,
            HEAD,
            BEFORE,
            False,
            "No: bbbbbbb (#81, Draw the ruler) is held. 1 test newly fails. The newest that may be used is aaaaaaa (#79, Level the gauge).",
        ),
        (Verdict.HELD, HEAD, None, False, "None before it may be used either"),
        (
            Verdict.UNDECIDED,
            HEAD,
            BEFORE,
            None,
            "Not known yet: bbbbbbb (#81, Draw the ruler) is being tested. The newest",
        ),
        (Verdict.NONE, HEAD, BEFORE, False, "No: bbbbbbb (#81, Draw the ruler) has no verdict."),
        (Verdict.NONE, None, None, None, "Nothing has been tested on main yet."),
    ],
)
def test_only_what_is_clear_or_exempt_may_be_used(
    verdict: Verdict, newest: Build | None, clear: Build | None, usable: bool | None, said: str
) -> None:
    found = may_be_used(Word(verdict, "push main", 81), newest, clear, "main")
    assert found[0] is usable and said in found[1]


@pytest.mark.parametrize(
    ("now", "zone", "since"),
    [
        ("2026-11-26T07:00+00:00", "UTC", "2026-11-25T18:00+00:00"),
        ("2026-11-30T07:00+00:00", "UTC", "2026-11-27T18:00+00:00"),  # a Monday
        ("2026-11-29T07:00+00:00", "UTC", "2026-11-27T18:00+00:00"),  # a Sunday
        ("2026-11-26T07:00+00:00", "Europe/Oslo", "2026-11-25T17:00+00:00"),
        ("2026-11-25T23:30+00:00", "Europe/Oslo", "2026-11-25T17:00+00:00"),  # it is Thursday there
    ],
)
def test_a_morning_begins_with_the_evening_of_the_last_working_day(now: str, zone: str, since: str) -> None:
    assert evening_before(datetime.fromisoformat(now), ZoneInfo(zone)) == datetime.fromisoformat(since)


@pytest.mark.parametrize(
    ("due", "ran", "missed"),
    [
        (NOW - LATE, False, True),
        (NOW - LATE + timedelta(seconds=1), False, False),
        (NOW - LATE, True, False),
        (NOW + LATE, False, False),
        (None, False, False),
    ],
)
def test_a_schedule_is_missed_when_its_time_has_passed(due: datetime | None, ran: bool, missed: bool) -> None:
    assert was_missed(due, ran, NOW) is missed


CAUSE = MorningCause("s1", "ruler draws", "where lua=5.1", "expected 3\nmore", True, False, 81, "Tobias", "")
QUIET = Morning("lockstep", "main", NOW, NOW, True, "Yes.", HEAD, HEAD, [], 0, [], 0, [], [])


@pytest.mark.parametrize(
    ("morning", "there", "absent"),
    [
        (QUIET, ["Nothing else changed since then."], ["New on", "Schedules"]),
        (
            replace(QUIET, causes=[CAUSE, replace(CAUSE, new=False, chance=True, taken="Ada")]),
            [
                "New on the main line:\n- ruler draws (where lua=5.1): expected 3 more — since #81 by Tobias; nobody has taken it",
                "Still there:\n- ruler draws",
                "perhaps by chance; Ada sees to it",
            ],
            ["Nothing else"],
        ),
        (replace(QUIET, causes=[CAUSE] * (MOST_LISTED + 3), more_causes=4), ["- and 7 more"], ["Still there"]),
        (
            replace(
                QUIET,
                turned=[
                    Turned("push to main", "held", 81, "Draw *it*", "Marisol\x07", "Held: 1."),
                    Turned("pull request 4", "clear again", 80, "Mend", "Ada", "Clear: 2."),
                ],
                still_held=1,
            ),
            [
                "Became held:\n- push to main (#81, Draw \\*it\\*, by Marisol",
                "Clear again:\n- pull request 4 (#80",
                "1 branch or pull request held as before.",
            ],
            ["Nothing else"],
        ),
        (
            replace(
                QUIET,
                waiting=["#81 publish"],
                schedules=[
                    ScheduleTold("nightly", "every day at 02:00, UTC", "ran", 80, "held", "3 min late", NOW),
                    ScheduleTold("weekly", "every monday", "missed", None, "", "", NOW),
                    ScheduleTold("monthly", "cron", "comes", None, "", "", NOW),
                ],
            ),
            [
                "nightly ran as #80: held, 3 min late",
                "weekly was missed (every monday)",
                "monthly comes 2026-11-26 07:00 UTC",
                "Waits for an approval:\n- #81 publish",
            ],
            [],
        ),
    ],
)
def test_the_text_says_what_changed_and_nothing_else(morning: Morning, there: list[str], absent: list[str]) -> None:
    text = morning_text(morning)
    assert text.startswith("Yes.\n\n")
    assert [t for t in there if t not in text] == [] and [t for t in absent if t in text] == [], text
