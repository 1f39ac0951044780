"""When an outcome is news: the state of a line changed, and not otherwise."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from myriant.core.states import Verdict


class News(StrEnum):
    HELD = "held"
    MORE = "held by more"
    CLEARED = "cleared"
    RELEASED = "released"
    ATTENTION = "attention"  # something beside the verdict needs a person
    NONE = ""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a run said of a context: its verdict, and what newly fails and fails still."""

    verdict: Verdict
    failing: frozenset[str]  # signatures or tests that do not pass, by any name that lasts


def news(before: Outcome | None, now: Outcome) -> News:
    """What changed for those who follow a line. `before` is the last outcome that was decided there, None without one.

    An exempt or undecided run changes nothing; a first clear run is no news.
    """
    if now.verdict is Verdict.HELD:
        if before is None or before.verdict is not Verdict.HELD:
            return News.HELD
        return News.MORE if now.failing - before.failing else News.NONE
    if now.verdict is Verdict.CLEAR and before is not None and before.verdict is Verdict.HELD:
        return News.CLEARED
    return News.NONE
