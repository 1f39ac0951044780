"""Tests found again under another name: what vanished beside what appeared, matched by name and place."""

from __future__ import annotations

import difflib
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from myriant.core.results.identity import Identity

MOST_COMPARED = 2_000
ALIKE = 0.82
_INCIDENTAL = re.compile(
    r"0x[0-9a-fA-F]+|\b[0-9a-f]{8}-(?:[0-9a-f]{4}-){3}[0-9a-f]{12}\b|(?<=[/\\])(?:tmp|temp)[/\\][^\s'\"\])]+"
    r"|(?<=seed[=:])\s*\d+|\b\d{10,}\b"
)


@dataclass(frozen=True, slots=True)
class Move:
    """Places in the two lists, and why they are taken for one test."""

    before: int
    now: int
    because: str
    incidental: bool = False  # only what changes with each run differs


def function_of(test: Identity) -> Identity | None:
    """The function of which a test is one parameter, named `f[0.5]` or `f(0.5)`; None for any other test."""
    kind, suite, klass, name = test
    found = re.match(r"(?P<function>[^\[(]*[^\[(\s])\s*[\[(].*[\])]$", name, re.DOTALL)
    return (kind, suite, klass, found["function"]) if found else None


def own_lines(source: str, name: str) -> str:
    """The lines of a test in its file, without its name: from the first that names it to the next as far out."""
    lines = source.splitlines()
    start = next((i for i, line in enumerate(lines) if re.search(rf"(?<!\w){re.escape(name)}(?!\w)", line)), None)
    if start is None:
        return ""
    depth = len(lines[start]) - len(lines[start].lstrip())
    found = [lines[start].replace(name, "", 1).strip()]
    for line in lines[start + 1 :]:
        inside = not line.strip() or len(line) - len(line.lstrip()) > depth
        if not inside and line.strip()[0] not in ")]}e":  # a closing bracket, or `end`
            break
        found.append(line.strip())
        if not inside:
            break
    body = [line for line in found if line]
    return "\n".join(body) if len(body) > 1 else ""


def moved(vanished: Sequence[Identity], appeared: Sequence[Identity]) -> list[Move]:
    """Pairs of vanished and appeared tests that are one test: each at most once, only where there is no second choice.

    In turn: names that differ in what is incidental (addresses, ids, temporary paths, seeds); the same name in another
    suite or class; a similar name in the same suite and class (difflib's ratio from 0.82).
    """
    if not vanished or not appeared or max(len(vanished), len(appeared)) > MOST_COMPARED:
        return []
    found: list[Move] = []
    left, new = set(range(len(vanished))), set(range(len(appeared)))

    def match(
        key_of: Sequence[object], new_key_of: Sequence[object], because: str, *, incidental: bool = False
    ) -> None:
        once, new_once = Counter(key_of[i] for i in left), Counter(new_key_of[i] for i in new)
        places = {new_key_of[i]: i for i in new}
        for i in sorted(left):
            key = key_of[i]
            if once[key] == 1 and new_once[key] == 1:
                found.append(Move(i, places[key], because, incidental))
                left.discard(i)
                new.discard(places[key])

    def keys(tests: Sequence[Identity]) -> list[object]:
        return [(k, _INCIDENTAL.sub("#", s), _INCIDENTAL.sub("#", c), _INCIDENTAL.sub("#", n)) for k, s, c, n in tests]

    match(keys(vanished), keys(appeared), "its name differs only in what changes with each run", incidental=True)
    match(
        [(k, n) for k, _, _, n in vanished],
        [(k, n) for k, _, _, n in appeared],
        "the same name, moved to another place",
    )
    for i in sorted(left):
        kind, suite, klass, name = vanished[i]
        rivals = [j for j in new if appeared[j][:3] == (kind, suite, klass)]
        scored = sorted(
            ((difflib.SequenceMatcher(None, name, appeared[j][3]).ratio(), j) for j in rivals), reverse=True
        )
        if scored and scored[0][0] >= ALIKE and (len(scored) == 1 or scored[1][0] < ALIKE):
            found.append(Move(i, scored[0][1], "renamed: a similar name in the same place"))
            new.discard(scored[0][1])
    return found
