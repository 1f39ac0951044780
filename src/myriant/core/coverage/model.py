"""What a coverage report says, by file and line."""

from __future__ import annotations

import zlib
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from myriant.core.results.model import Oddity

MOST_HITS = 2**31 - 1
MOST_LINE = 10_000_000  # the greatest line number that is believed
Numbers = NDArray[np.int32]
Unit = Literal["lines", "branches", "functions"]
MOST_FUNCTION = 300  # characters of a name
MOST_FUNCTIONS = 100_000  # of a file


def none() -> Numbers:
    return np.zeros(0, np.int32)


@dataclass(frozen=True, slots=True)
class Arms:
    """Branches of which is known which they are: the line of each, a number for its name there, whether it was taken
    (0 or 1); sorted by line and number. A line may have more branches than are known."""

    lines: Numbers = field(default_factory=none)
    ids: Numbers = field(default_factory=none)
    taken: Numbers = field(default_factory=none)


@dataclass(frozen=True, slots=True)
class Function:
    """A function by its first line (0: not said) and its name."""

    line: int
    name: str
    hits: int


@dataclass(frozen=True, slots=True)
class FileCoverage:
    """One file: `lines` (sorted, distinct, from 1) and their `hits`; branch counts of the lines that have branches."""

    lines: Numbers
    hits: Numbers
    branch_lines: Numbers
    branches_valid: Numbers
    branches_covered: Numbers
    arms: Arms = field(default_factory=Arms)
    functions: tuple[Function, ...] = ()  # by line and name

    @property
    def totals(self) -> Totals:
        return Totals(
            len(self.lines),
            int((self.hits > 0).sum()),
            int(self.branches_valid.sum()),
            int(self.branches_covered.sum()),
            len(self.functions),
            sum(f.hits > 0 for f in self.functions),
        )

    @property
    def uncovered(self) -> list[int]:
        return [int(n) for n in self.lines[self.hits == 0]]


@dataclass(frozen=True, slots=True)
class Totals:
    """Counts of coverable and covered lines, branches and functions."""

    lines_valid: int = 0
    lines_covered: int = 0
    branches_valid: int = 0
    branches_covered: int = 0
    functions_valid: int = 0
    functions_covered: int = 0

    def __add__(self, other: Totals) -> Totals:
        return Totals(*(getattr(self, f) + getattr(other, f) for f in Totals.__dataclass_fields__))

    def share(self, of: Unit) -> Fraction | None:
        """Covered ÷ coverable lines, branches or functions; None when there are none."""
        valid: int = getattr(self, f"{of}_valid")
        return Fraction(getattr(self, f"{of}_covered"), valid) if valid else None

    @property
    def line_share(self) -> Fraction | None:
        return self.share("lines")


@dataclass(slots=True)
class Coverage:
    """One or more reports: files by path relative to the repository's root."""

    files: dict[str, FileCoverage] = field(default_factory=dict)
    problems: list[Oddity] = field(default_factory=list)

    @property
    def error(self) -> Oddity | None:
        return next((p for p in self.problems if p.level == "error"), None)

    @property
    def totals(self) -> Totals:
        return sum((f.totals for f in self.files.values()), Totals())


@dataclass(slots=True)
class Lines:
    """A file while it is read: hits by line, (covered, valid) branches by line, those that have a name, functions."""

    hits: dict[int, int] = field(default_factory=dict)
    branches: dict[int, tuple[int, int]] = field(default_factory=dict)
    arms: dict[int, dict[str, bool]] = field(default_factory=dict)  # by line and name: whether it was taken
    functions: dict[tuple[int, str], int] = field(default_factory=dict)

    def hit(self, line: int, hits: int) -> None:
        self.hits[line] = min(self.hits.get(line, 0) + max(hits, 0), MOST_HITS)

    def called(self, line: int, name: str, hits: int) -> None:
        key = (max(0, min(line, MOST_LINE)), name[:MOST_FUNCTION])
        if key in self.functions or len(self.functions) < MOST_FUNCTIONS:
            self.functions[key] = min(self.functions.get(key, 0) + max(hits, 0), MOST_HITS)

    def done(self) -> FileCoverage:
        lines = np.fromiter(self.hits, np.int32, len(self.hits))
        hits = np.minimum(np.fromiter(self.hits.values(), np.int64, len(self.hits)), MOST_HITS).astype(np.int32)
        if (lines[1:] < lines[:-1]).any():
            order = np.argsort(lines, kind="stable")
            lines, hits = lines[order], hits[order]
        branched = sorted(self.branches)
        pairs = [self.branches[n] for n in branched]
        return FileCoverage(
            lines,
            hits,
            np.array(branched, np.int32),
            np.array([valid for _, valid in pairs], np.int32),
            np.array([covered for covered, _ in pairs], np.int32),
            self._arms(),
            tuple(Function(line, name, hits) for (line, name), hits in sorted(self.functions.items())),
        )

    def _arms(self) -> Arms:
        """The branches that have names, of lines that name no more than they count; merging asks whether they agree."""
        rows = []
        for line, arms in self.arms.items():
            _, valid = self.branches.get(line, (0, 0))
            known = {zlib.crc32(name.encode()) & 0x7FFFFFFF: taken for name, taken in arms.items()}
            if len(known) == len(arms) <= valid:
                rows += [(line, number, taken) for number, taken in known.items()]
        columns = np.array(sorted(rows), np.int32).reshape(-1, 3)
        return Arms(columns[:, 0], columns[:, 1], columns[:, 2])
