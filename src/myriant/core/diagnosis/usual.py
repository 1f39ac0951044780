"""Lines that passing runs print too: known by what is left of a line when the incidental is taken out."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

Digests = NDArray[np.uint64]
_CONTROL = re.compile(rb"\x1b\[[0-9;:]*[A-Za-z]|\x1b\][^\x07\x1b]*(?:\x07|\x1b\\)|\x1b[^\[\]]")
_INCIDENTAL = re.compile(
    rb"0x[0-9a-f]+|\b(?=[0-9a-f]*[0-9])(?=[0-9a-f]*[a-f])[0-9a-f]{7,}\b|\d+(?:[.,:]\d+)*", re.IGNORECASE
)
_SPACE = re.compile(rb"\s+")


def plain(line: bytes) -> bytes:
    """A line as a terminal shows it at last: without colours, and what a carriage return drew over is gone."""
    line = line.rstrip(b"\r\n")
    if b"\r" in line:
        line = line.rsplit(b"\r", 1)[1]
    return _CONTROL.sub(b"", line) if b"\x1b" in line else line


def line_digest(line: bytes) -> int:
    """64 bits (BLAKE2b) of a line without numbers, addresses, ids and spacing; 0 for an empty line."""
    text = _SPACE.sub(b" ", _INCIDENTAL.sub(b"#", plain(line))).strip()
    return int.from_bytes(hashlib.blake2b(text, digest_size=8).digest(), "little") if text else 0


def digests_of(lines: Iterable[bytes]) -> Digests:
    """The distinct digests of some lines, sorted."""
    return np.unique(np.fromiter((line_digest(line) for line in lines), np.uint64))


def are_usual(digests: Digests, known: Digests) -> NDArray[np.bool_]:
    """Which digests are known; an empty line (0) always is."""
    if not len(known):
        empty: NDArray[np.bool_] = digests == 0
        return empty
    places = np.minimum(np.searchsorted(known, digests), len(known) - 1)
    usual: NDArray[np.bool_] = (known[places] == digests) | (digests == 0)
    return usual


def stretches(usual: NDArray[np.bool_], least: int = 3) -> list[tuple[int, int]]:
    """Stretches of at least `least` usual lines, as first line and the one behind the last."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], usual, [False])).astype(np.int8)))
    pairs = edges.reshape(-1, 2).tolist()
    return [(first, end) for first, end in pairs if end - first >= least]
