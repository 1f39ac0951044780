"""TOML as strangers write it, in time linear in its length."""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from typing import Any

_MOST_PARTS = 100  # of a dotted key


def loads(text: str) -> dict[str, Any]:
    """What a text of TOML says. Raises tomllib.TOMLDecodeError, for a key of too many parts too, and RecursionError."""
    if (deep := deep_key(text.split("\n"))) is not None:
        raise tomllib.TOMLDecodeError(f"a key of {deep[1]:,} parts (at line {deep[0]}, column 1)")
    return tomllib.loads(text)


def deep_key(lines: Sequence[str]) -> tuple[int, int] | None:
    """The first line with a dotted key of too many parts, and how many: reading it takes the square of their number."""
    for number, line in enumerate(lines, 1):
        if line.count(".") > _MOST_PARTS and (parts := _parts_of_key(line)) > _MOST_PARTS:
            return number, parts
    return None


def _parts_of_key(line: str) -> int:
    """The parts of the longest dotted key of a line: reading one takes time that grows with their square."""
    *before, _ = line.split("=")
    keys = [piece[max(piece.rfind("{"), piece.rfind(",")) + 1 :] for piece in before]
    if line.lstrip().startswith("[") and "," not in line:
        keys.append(line)
    return max((key.count(".") + 1 for key in keys), default=0)
