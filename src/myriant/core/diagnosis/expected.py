"""Expected against actual, where a failure's message has both."""

from __future__ import annotations

import re
from dataclasses import dataclass

_SHAPES = (
    re.compile(
        r"expected:?\s+(?P<expected>.+?),?\s+(?:but )?(?:got|actual|was|found|received):?\s+(?P<actual>.+)", re.I | re.S
    ),
    re.compile(
        r"^\s*expected\s*[:=]\s*(?P<expected>.+?)\n\s*(?:actual|got|received)\s*[:=]\s*(?P<actual>.+?)$", re.I | re.M
    ),
    re.compile(r"^(?:AssertionError: )?assert\s+(?P<actual>[^\n]+?)\s+==\s+(?P<expected>[^\n]+)$", re.M),
    re.compile(r"^(?:AssertionError: )?(?P<actual>[^\n]+?) != (?P<expected>[^\n]+?)(?: : .*)?$", re.M),
)
_MOST = 20_000


@dataclass(frozen=True, slots=True)
class Pair:
    expected: str
    actual: str


def expected_and_actual(message: str, detail: str) -> Pair | None:
    """The pair that an assertion states, from common shapes of assertion messages; None when there is none."""
    for text in (message[:_MOST], detail[:_MOST]):
        for shape in _SHAPES:
            found = shape.search(text)
            if found:
                return Pair(
                    found["expected"].strip(),
                    found["actual"].strip().split("\n")[0] if "\n\n" in text else found["actual"].strip(),
                )
    return None
