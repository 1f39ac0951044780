"""What a report of test results says, in columns."""

from __future__ import annotations

from dataclasses import dataclass, field
from enum import IntEnum


class Outcome(IntEnum):
    """JUnit XML's four; ABSENT is the lack of a result in an array over all tests of a project.

    FLAKY is said of a test that both failed and passed within one attempt, or over the attempts of one cell.
    """

    ABSENT = 0
    PASSED = 1
    FAILED = 2
    ERRORED = 3
    SKIPPED = 4
    FLAKY = 5


@dataclass(frozen=True, slots=True)
class Oddity:
    """A problem of an input file: `level` "error" (not to be trusted) or "warning"; `line` from 1, 0 unknown."""

    level: str
    message: str
    line: int


@dataclass(slots=True)
class Detail:
    """What a case that did not pass says about itself. `line` is from 1, 0 where none was given."""

    message: str = ""
    text: str = ""
    type: str = ""
    output: str = ""  # what it printed
    file: str = ""
    line: int = 0
    attachments: list[str] = field(default_factory=list)  # paths, as the report names them
    setup: bool = False  # a set-up or tear-down, no test


@dataclass(slots=True)
class Results:
    """Cases of one or more reports in file order; equal index, one case. `seconds` is NaN where none was given.

    A set-up or tear-down that passed is no case, only counted in `setups`; one that did not is a case as well.
    """

    suites: list[str] = field(default_factory=list)
    classes: list[str] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    outcomes: bytearray = field(default_factory=bytearray)
    seconds: list[float] = field(default_factory=list)
    details: dict[int, Detail] = field(default_factory=dict)
    properties: dict[str, str] = field(default_factory=dict)  # of the whole and of suites, the first of each name
    setups: int = 0
    problems: list[Oddity] = field(default_factory=list)
    says_none: bool = False  # it is whole, and holds no test: an error, unless it may be empty

    def __len__(self) -> int:
        return len(self.names)

    @property
    def error(self) -> Oddity | None:
        """The first reason not to trust the report, if any."""
        return next((p for p in self.problems if p.level == "error"), None)

    def count(self, outcome: Outcome) -> int:
        return self.outcomes.count(outcome)
