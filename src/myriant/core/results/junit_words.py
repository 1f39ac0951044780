"""Words and forms by which producers say in JUnit XML what came of a test."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass

from myriant.core.results.model import Outcome

MOST_TEXT = 256 * 1024  # characters kept of one message or stack
MOST_OUTPUT = 64 * 1024
MOST_NAME = 2_000
MOST_PROPERTIES = 500
OUTSIDE = "(outside any test)"

VERDICTS = {"failure": Outcome.FAILED, "error": Outcome.ERRORED, "skipped": Outcome.SKIPPED}
RETRIES = {"flakyFailure", "flakyError", "rerunFailure", "rerunError"}
OUTPUTS = {"system-out", "system-err"}
NOT_RUN = {"notrun", "not run", "not-run", "not_run", "disabled", "skipped", "ignored", "suppressed", "pending"}
BAD = {
    "failed": Outcome.FAILED,
    "fail": Outcome.FAILED,
    "failure": Outcome.FAILED,
    "error": Outcome.ERRORED,
    "errored": Outcome.ERRORED,
    "timeout": Outcome.ERRORED,
    "crashed": Outcome.ERRORED,
    "xpass": Outcome.FAILED,
}
GOOD = {
    "",
    "passed",
    "pass",
    "success",
    "successful",
    "succeeded",
    "ok",
    "run",
    "ran",
    "completed",
    "complete",
    "finished",
    "executed",
    "done",
    "true",
    "xfail",
    "flaky",
    "fixed",
    "warning",
    "warnings",
}
RANK = {Outcome.PASSED: 0, Outcome.SKIPPED: 1, Outcome.FAILED: 2, Outcome.ERRORED: 3}
SETUP = re.compile(
    r"(?:setUp|tearDown)(?:Class|Module)? \(.+\)$"
    r'|"(?:before|after) (?:all|each)" hook\b|\{(?:before|after)(?: (?:all|each))?\}'
    r"|(?:initializationError|classMethod|executionError)$"
    r"|(?:init|end)_per_(?:suite|group|testcase)\b|(?:init|cleanup)TestCase$|fixture (?:setup|cleanup)\b",
    re.IGNORECASE,
)
SETUP_BEGINS = {
    *("set", "Set", "tea", "Tea", "ini", "Ini", "end", "End", "cla", "cle", "exe", "fix"),
    '"be',
    '"af',
    "{be",
    "{af",
}
MARKED = frozenset(("status", "result", "executed", "disabled"))
NO_SKIP = re.compile(r"pass(?:es|ed) unexpectedly|unexpected(?:ly)? (?:success|pass)", re.IGNORECASE)
EXPECTED = re.compile(r"tagged with !(?:may|should)fail|expected (?:test )?failure|\bx-?fail\b", re.IGNORECASE)
COMMENT = re.compile(r'message="(.*)"\s+type="skip"', re.DOTALL)
ATTACHED = re.compile(r"\[\[ATTACHMENT\|([^\]\n]{1,1000})\]\]")
_CLOCK = re.compile(r"(?:(\d+):)?(\d{1,2}):(\d{1,2}(?:[.,]\d+)?)$")
_UNIT = re.compile(r"([\d.,eE+-]+)\s*(ms|s|sec|seconds)$")


@dataclass(frozen=True, slots=True)
class Stated:
    """What a suite says of itself, and what had been read before it: cases, set-ups that passed, failures."""

    attributes: dict[str, str]
    line: int
    cases: int
    dropped: int
    shown: int
    bad: int

    def number(self, name: str) -> int | None:
        said = self.attributes.get(name, "").strip()
        return int(said[:12]) if said.isascii() and said.isdigit() else None

    @property
    def failures(self) -> int | None:
        """Failures, or errors where they are more."""
        said = [n for n in (self.number("failures"), self.number("errors")) if n is not None]
        return max(said, default=None)  # some count what erred among the failures, or all as both


def odd_time(time: str) -> float:
    """Seconds of a time with separators, a unit or as a clock shows it; NaN for anything else.

    >>> [odd_time(t) for t in ("1,234.5", "0,25", "1.234,5", "00:01:02.5", "12 ms", "1 234.5")]
    [1234.5, 0.25, 1234.5, 62.5, 0.012, 1234.5]
    """
    text = re.sub(r"(?<=\d)[\s'_](?=\d{3})", "", time.strip())
    if (clock := _CLOCK.match(text)) is not None:
        return int(clock[1] or 0) * 3600 + int(clock[2]) * 60 + float(clock[3].replace(",", "."))
    unit = 1.0
    if (found := _UNIT.match(text)) is not None:
        text, unit = found[1], 0.001 if found[2] == "ms" else 1.0
    if text.rfind(",") > text.rfind(".") >= 0:  # 1.234,5
        text = text.replace(".", "").replace(",", ".")
    elif "." in text or text.count(",") > 1:
        text = text.replace(",", "")
    else:
        text = text.replace(",", ".")
    try:
        return float(text) * unit
    except ValueError:
        return math.nan
