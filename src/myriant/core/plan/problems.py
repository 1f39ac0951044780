"""What is wrong with a plan, where, why and how to mend it."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache


class Level(StrEnum):
    ERROR = "error"
    WARNING = "warning"


@dataclass(frozen=True, slots=True)
class Place:
    """Where something stands: lines and columns (in characters) count from 1; the end is behind it."""

    line: int
    column: int
    text: str
    end_line: int = 0
    end_column: int = 0


@dataclass(frozen=True, slots=True)
class Edit:
    """Replace what stands between two places by a text; both places equal: insert it there."""

    line: int
    column: int
    end_line: int
    end_column: int
    text: str


@dataclass(frozen=True, slots=True)
class Problem:
    """`edits` carry out the mend where it is mechanical."""

    level: Level
    file: str
    line: int
    column: int
    text: str
    message: str
    mend: str
    edits: tuple[Edit, ...] = ()

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}: {self.message} ({self.mend})"


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word most like `word` (difflib ratio at least 0.6), or None."""
    return _nearest(word[:80], tuple(known)[:2000])


@lru_cache(maxsize=4096)
def _nearest(word: str, known: tuple[str, ...]) -> str | None:
    if word.lower().replace("_", "-") in known:
        return word.lower().replace("_", "-")
    found = difflib.get_close_matches(word.lower().replace("_", "-"), known, n=1, cutoff=0.6)
    return found[0] if found else None


def with_edits(text: str, edits: Sequence[Edit]) -> str:
    """The text after the edits, which must not overlap; places outside it are drawn to its ends."""
    starts = [0]
    for line in text.split("\n"):
        starts.append(starts[-1] + len(line) + 1)

    def at(line: int, column: int) -> int:
        line = min(max(line, 1), len(starts) - 1)
        return min(starts[line - 1] + max(column, 1) - 1, starts[line] - 1)

    spans = sorted(((at(e.line, e.column), at(e.end_line, e.end_column), e.text) for e in edits), reverse=True)
    for start, end, new in spans:
        text = text[:start] + new + text[end:]
    return text
