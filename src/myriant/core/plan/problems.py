"""What is wrong with a plan, where, why and how to mend it."""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum


class Level(StrEnum):
    ERROR = "error"
    WARNING = "warning"


@dataclass(frozen=True, slots=True)
class Place:
    """Where something stands: `line` and `column` count from 1, `text` is what stands there."""

    line: int
    column: int
    text: str


@dataclass(frozen=True, slots=True)
class Problem:
    level: Level
    file: str
    line: int
    column: int
    text: str
    message: str
    mend: str

    def __str__(self) -> str:
        return f"{self.file}:{self.line}:{self.column}: {self.message} ({self.mend})"


def nearest(word: str, known: Iterable[str]) -> str | None:
    """The known word most like `word` (difflib ratio at least 0.6), or None."""
    found = difflib.get_close_matches(word[:80].lower().replace("_", "-"), list(known), n=1, cutoff=0.6)
    return found[0] if found else None
