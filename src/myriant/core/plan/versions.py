"""The order of version texts, and which version a plan's wish names."""

from __future__ import annotations

import re

_PIECE = re.compile(r"\d+|[a-zA-Z]+")
VersionKey = tuple[tuple[int, int, str], ...]


def version_key(text: str) -> VersionKey:
    """Sort key in version order: numbers by value, words (pre-releases) before numbers: 3.9 < 3.10 < 3.10.1."""
    pieces = ((1, int(p), "") if p.isdigit() else (-1, 0, p.lower()) for p in _PIECE.findall(text[:200]))
    return (*pieces, (0, 0, ""))


def is_version(text: str) -> bool:
    return bool(re.fullmatch(r"v?\d+(\.\d+)*([.-]?[a-zA-Z]+\.?\d*)?", text))


def offered_names(version: str) -> list[str]:
    """The wishes that an installed version meets: 3.12.1 meets "3", "3.12" and "3.12.1"."""
    parts = version.split(".")
    return [".".join(parts[: i + 1]) for i in range(len(parts))]
