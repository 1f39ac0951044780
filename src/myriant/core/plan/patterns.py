"""Regular expressions that a plan gives: matched by an automaton, in time linear in the text and in bounded memory."""

from __future__ import annotations

from typing import Protocol

import re2

_MOST_TEXT = 1000  # characters
_MOST_MEMORY = 8 << 20  # bytes of one automaton


class Pattern(Protocol):
    def search(self, text: bytes) -> object | None: ...


def pattern(text: str) -> Pattern:
    """A pattern for bytes. Raises ValueError, saying why, for what is none."""
    if len(text) > _MOST_TEXT:
        raise ValueError(f"it has {len(text):,} characters, and may have {_MOST_TEXT:,}")
    options = re2.Options()
    options.max_mem, options.log_errors = _MOST_MEMORY, False
    try:
        found: Pattern = re2.compile(text.encode("utf-8", "surrogateescape"), options)
    except re2.error as error:
        said = error.args[0]
        raise ValueError(said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)) from error
    return found
