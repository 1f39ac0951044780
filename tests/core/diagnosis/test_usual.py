"""Usual lines: the same line with other numbers is the same, another word is not."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.diagnosis.usual import are_usual, digests_of, line_digest, plain, stretches


@pytest.mark.parametrize(
    ("one", "other", "same"),
    [
        (b"ran 12 tests in 0.31s", b"ran 7 tests in 12.0s", True),
        (b"at 0x7f3a9c", b"at 0x11", True),
        (b"commit 9f3c21ab", b"commit deadbee1", True),
        (b"\x1b[32mok\x1b[0m gate 3", b"ok gate 4", True),
        (b" 10 %\r 55 %\r100 % done", b"3 % done", True),
        (b"ok   gate", b"ok gate", True),
        (b"ok gate", b"not ok gate", False),
        (b"decade", b"facade", False),
        (b"the gate opens", b"the gate shuts", False),
    ],
)
def test_what_counts_as_the_same_line(one: bytes, other: bytes, same: bool) -> None:
    assert (line_digest(one) == line_digest(other)) is same


@given(st.lists(st.binary(max_size=30), max_size=30))
def test_every_line_of_a_passing_log_is_usual_in_it(lines: list[bytes]) -> None:
    known = digests_of(lines)
    assert are_usual(np.array([line_digest(line) for line in lines], np.uint64), known).all()
    assert not plain(b"a\x1b[31mb").count(b"\x1b")


@given(st.lists(st.booleans(), max_size=40))
def test_stretches_cover_runs_of_usual_lines_and_nothing_else(flags: list[bool]) -> None:
    found = stretches(np.array(flags, np.bool_), least=2)
    inside = {i for first, end in found for i in range(first, end)}
    assert all(flags[i] for i in inside) and all(end - first >= 2 for first, end in found)
    for i in range(len(flags) - 1):
        if flags[i] and flags[i + 1]:
            assert {i, i + 1} <= inside
