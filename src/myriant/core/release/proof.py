"""Proof that what was made arrived: what a step printed at the target, against the digests of what the run made."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from myriant.core.plan.globs import matches
from myriant.core.written import counted

_DIGEST = re.compile(rb"(?<![0-9A-Fa-f])[0-9A-Fa-f]{64}(?![0-9A-Fa-f])")
_NAMED = 3


@dataclass(frozen=True, slots=True)
class Proven:
    """A file that the run made, and whether its very digest was printed."""

    path: str
    digest: str  # SHA-256, hexadecimal
    found: bool


def proven(globs: Iterable[str], made: Iterable[tuple[str, str]], printed: bytes) -> list[Proven]:
    """The files among those made, (path, SHA-256), that some glob names, each with whether its digest was printed."""
    there = {found.decode().lower() for found in _DIGEST.findall(printed)}
    patterns = tuple(globs)
    return [Proven(p, d, d in there) for p, d in made if any(matches(glob, p) for glob in patterns)]


def unproven(step: str, globs: Sequence[str], rows: Sequence[Proven]) -> str:
    """Why there is no proof, empty when there is."""
    if not rows:
        return f"{step} proves nothing: the run made no artifact of {', '.join(globs)}"
    missing = [f"{r.path} ({r.digest[:12]}…)" for r in rows if not r.found]
    if not missing:
        return ""
    more = f" and {len(missing) - _NAMED} more" if len(missing) > _NAMED else ""
    return f"{step} did not find what was made: {', '.join(missing[:_NAMED])}{more}, of {counted(len(rows), 'file')}"
