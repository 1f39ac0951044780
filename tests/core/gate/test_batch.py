"""Halving over changes that are merged one upon the other: what it names is so, and soon."""

from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.gate.batch import Does, Step, next_step


@pytest.mark.parametrize(
    ("size", "known", "step"),
    [
        (0, {}, Step(Does.CLEAR, 0)),
        (1, {}, Step(Does.TEST, 1)),
        (1, {1: None}, Step(Does.WAIT, 1)),
        (1, {1: False}, Step(Does.BREAKS, 1)),
        (5, {}, Step(Does.TEST, 5)),
        (5, {5: True}, Step(Does.CLEAR, 5)),
        (5, {5: True, 2: False}, Step(Does.CLEAR, 5)),  # what was held alone and is clear with what came after
        (5, {5: False}, Step(Does.TEST, 2)),
        (5, {5: False, 2: None}, Step(Does.WAIT, 2)),
        (5, {5: False, 2: True}, Step(Does.TEST, 3)),
        (5, {5: False, 2: True, 3: True}, Step(Does.TEST, 4)),
        (5, {5: False, 2: True, 3: True, 4: True}, Step(Does.BREAKS, 5)),
        (5, {5: False, 2: False, 1: True}, Step(Does.BREAKS, 2)),
        (5, {5: None}, Step(Does.WAIT, 5)),
    ],
)
def test_the_next_step(size: int, known: dict[int, bool | None], step: Step) -> None:
    assert next_step(size, known) == step


@given(st.lists(st.booleans(), min_size=1, max_size=20))
def test_what_is_named_was_held_and_clear_without_it(clear: list[bool]) -> None:
    """Whatever the truth of each prefix, even one that no single change explains."""
    truth, known, runs = {i + 1: c for i, c in enumerate(clear)}, dict[int, bool | None](), 0
    while (step := next_step(len(clear), known)).what is Does.TEST:
        known[step.size] = truth[step.size]
        runs += 1
    if step.what is Does.CLEAR:
        assert truth[len(clear)] and runs == 1
        return
    assert step.what is Does.BREAKS and known[step.size] is False
    assert step.size == 1 or known[step.size - 1] is True
    assert runs <= 1 + math.ceil(math.log2(len(clear) + 1))


@given(st.integers(1, 20), st.data())
def test_of_one_that_breaks_that_one_is_named(size: int, data: st.DataObject) -> None:
    breaks = data.draw(st.integers(1, size))
    known: dict[int, bool | None] = {}
    while (step := next_step(size, known)).what is Does.TEST:
        known[step.size] = step.size < breaks
    assert step == Step(Does.BREAKS, breaks)
