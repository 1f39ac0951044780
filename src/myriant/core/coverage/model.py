"""What a coverage report says, by file and line."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from myriant.core.results.model import Oddity

MOST_HITS = 2**31 - 1
MOST_LINE = 10_000_000  # the greatest line number that is believed
Numbers = NDArray[np.int32]


@dataclass(frozen=True, slots=True)
class FileCoverage:
    """One file: `lines` (sorted, distinct, from 1) and their `hits`; branch counts of the lines that have branches."""

    lines: Numbers
    hits: Numbers
    branch_lines: Numbers
    branches_valid: Numbers
    branches_covered: Numbers

    @property
    def totals(self) -> Totals:
        return Totals(
            len(self.lines),
            int((self.hits > 0).sum()),
            int(self.branches_valid.sum()),
            int(self.branches_covered.sum()),
        )

    @property
    def uncovered(self) -> list[int]:
        return [int(n) for n in self.lines[self.hits == 0]]


@dataclass(frozen=True, slots=True)
class Totals:
    """Counts of coverable and covered lines and branches."""

    lines_valid: int = 0
    lines_covered: int = 0
    branches_valid: int = 0
    branches_covered: int = 0

    def __add__(self, other: Totals) -> Totals:
        return Totals(
            self.lines_valid + other.lines_valid,
            self.lines_covered + other.lines_covered,
            self.branches_valid + other.branches_valid,
            self.branches_covered + other.branches_covered,
        )

    @property
    def line_share(self) -> Fraction | None:
        """Covered ÷ coverable lines, None when there are none."""
        return Fraction(self.lines_covered, self.lines_valid) if self.lines_valid else None


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
    """A file while it is read: hits by line, and (covered, valid) branches by line."""

    hits: dict[int, int] = field(default_factory=dict)
    branches: dict[int, tuple[int, int]] = field(default_factory=dict)

    def hit(self, line: int, hits: int) -> None:
        self.hits[line] = min(self.hits.get(line, 0) + max(hits, 0), MOST_HITS)

    def done(self) -> FileCoverage:
        lines = np.array(sorted(self.hits), np.int32)
        hits = np.array([self.hits[n] for n in lines.tolist()], np.int32)
        branched = sorted(self.branches)
        pairs = [self.branches[n] for n in branched]
        return FileCoverage(
            lines,
            hits,
            np.array(branched, np.int32),
            np.array([valid for _, valid in pairs], np.int32),
            np.array([covered for covered, _ in pairs], np.int32),
        )
