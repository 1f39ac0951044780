"""Which of several changes, merged one upon the other, makes the gate hold: halving, with what is known already."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum


class Does(StrEnum):
    TEST = "test"  # the first so many together
    WAIT = "wait"  # for the verdict on them
    CLEAR = "clear"  # all of them together
    BREAKS = "breaks"  # the last of the first so many: without it they are clear, with it held


@dataclass(frozen=True, slots=True)
class Step:
    what: Does
    size: int


def next_step(size: int, known: Mapping[int, bool | None]) -> Step:
    """What is to be done about the first `size` changes. `known`: by how many of them, whether they are clear together;
    None while that is being tested.

    All of them are tried first; where they are held, halves (the target by itself counts as clear: what fails there is
    known). So one that breaks is named after at most log2(size) further runs, and always with a run on each side of it.
    """
    if size == 0:
        return Step(Does.CLEAR, 0)
    clear, held = 0, size
    at = size
    while True:
        if at not in known:
            return Step(Does.TEST, at)
        said = known[at]
        if said is None:
            return Step(Does.WAIT, at)
        if said and at == size:
            return Step(Does.CLEAR, size)
        clear, held = (at, held) if said else (clear, at)
        if held - clear == 1:
            return Step(Does.BREAKS, held)
        at = (clear + held) // 2
