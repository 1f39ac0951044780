"""A finding as a reader gets it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from myriant.flow.views.lines import RunLine


@dataclass(frozen=True, slots=True)
class AffectedCell:
    job: str
    key: str
    attempt_id: int
    mark: str
    outcome: str
    tests: int  # of the finding that did not pass in it
    seconds: float | None  # of the first of them


@dataclass(frozen=True, slots=True)
class FailedTest:
    test: int
    title: str
    kind: str
    suite: str
    mark: str
    cells: int
    control: str | None


@dataclass(frozen=True, slots=True)
class Place:
    """A place that a stack names, in the repository."""

    file: str
    line: int
    name: str


@dataclass(frozen=True, slots=True)
class KindView:
    """What sort of failure it is, and what to do next."""

    name: str
    part: str
    say: str
    line: str


@dataclass(frozen=True, slots=True)
class SeenIn:
    number: int
    commit: str
    at: datetime


@dataclass(frozen=True, slots=True)
class TakenBy:
    """Who sees to it, since when, with what they noted."""

    by: str
    at: datetime
    note: str


@dataclass(frozen=True, slots=True)
class Repeated:
    """How often a failed test passed and failed when its cell was repeated, here and on the gate baseline."""

    here_passed: int
    here_failed: int
    baseline_passed: int
    baseline_failed: int
    baseline_absent: bool  # it is not there at the baseline


@dataclass(frozen=True, slots=True)
class Finding:
    """One cause with every test and cell in which it shows."""

    id: str  # its signature
    title: str  # the test's, when it is one
    headline: str
    exception: str
    because: str  # why its failures are together
    job: str
    mark: str  # new, first, known, quarantined, flaky
    outcome: str
    setup: bool  # a set-up or tear-down failed, no test
    message: str
    detail: str
    output: str
    expected: str | None
    actual: str | None
    where: str | None  # the selector that explains it
    or_where: str | None  # a second selector: together they explain it
    where_sure: bool  # or it may be chance that just these cells failed
    missed: int  # cells of which the selector is wrong, 0 when it is exact
    rivals: list[str]  # other selectors that fit as well, because of cells that did not run
    next_cell: str | None  # the selector of the cell that tells them apart
    ran_in: int  # cells that ran one of its tests
    silent: list[str]  # "job/key" of cells that say nothing of it: no result of its tests, or they fail otherwise
    control: str | None  # change, world, chance or unsure, once control runs have ended
    repeated: Repeated | None  # what they gave
    told: KindView | None
    first_seen: SeenIn | None
    back_since: SeenIn | None  # it was mended in this branch or pull request since that run, and came back
    seen: int  # runs that saw it, this one included
    taken: TakenBy | None
    places: list[Place]  # the project's own, innermost first
    tests: list[FailedTest]
    more_tests: int
    cells: list[AffectedCell]
    attachments: list[AttachmentView]


@dataclass(frozen=True, slots=True)
class AttachmentView:
    """A file that a failed test names; `before` is the same file where the test passed last, if it was kept."""

    path: str
    report: int
    before: int | None


@dataclass(frozen=True, slots=True)
class OtherLine:
    text: str
    path: str = ""
    line: int = 0
    test: int | None = None


@dataclass(frozen=True, slots=True)
class OtherFinding:
    """What is odd beside failing tests: vanished, moved, not run, slower, less covered, newly marked by analysis."""

    kind: str
    title: str
    say: str
    lines: list[OtherLine]
    more: int


@dataclass(frozen=True, slots=True)
class CellNamed:
    job: str
    key: str


@dataclass(slots=True)
class TroubledCells:
    """What went wrong beside failing tests, once for all cells in which it is the same."""

    state: str  # of its cells: void or failed
    mark: str
    reason: str
    told: KindView | None
    line: str  # of the log, the one that says most plainly what went wrong
    cells: list[CellNamed]
    of: int  # cells of their jobs that the run asked for


@dataclass(frozen=True, slots=True)
class Findings:
    baseline: RunLine | None
    movable: bool  # the baseline was chosen by the reader
    tests: dict[str, int]  # distinct tests by mark
    findings: list[Finding]
    more: int  # findings beyond those listed
    others: list[OtherFinding]
    troubled: list[TroubledCells]
    fixed: int
    vanished: int
