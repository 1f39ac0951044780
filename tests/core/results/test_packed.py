"""Packed segments give back what was put in."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp

from myriant.core.results.packed import SEGMENT, pack, unpack_durations, unpack_outcomes_into

numbers = hnp.arrays(np.int64, st.integers(0, 200), elements=st.integers(0, 5 * SEGMENT), unique=True)


def unpacked(data: bytes) -> np.ndarray:
    whole = np.zeros(SEGMENT, np.uint8)
    return whole[: unpack_outcomes_into(whole, 0, data)]


@given(numbers, st.data())
def test_every_outcome_and_duration_comes_back(tests: np.ndarray, data: st.DataObject) -> None:
    size = len(tests)
    outcomes = data.draw(hnp.arrays(np.uint8, size, elements=st.integers(1, 4)))
    seconds = data.draw(hnp.arrays(np.float64, size, elements=st.one_of(st.just(np.nan), st.floats(1e-4, 1e5))))
    segments = {s.number: s for s in pack(tests, outcomes, seconds)}
    for test, outcome, duration in zip(tests, outcomes, seconds, strict=True):
        segment = segments[test // SEGMENT]
        assert unpacked(segment.outcomes)[test % SEGMENT] == outcome
        got = unpack_durations(segment.durations)[test % SEGMENT]
        assert (np.isnan(got) and np.isnan(duration)) or abs(got - duration) <= 0.0011 * duration
    kept = sum(int((unpacked(s.outcomes) != 0).sum()) for s in segments.values())
    assert kept == size


def test_a_typical_result_costs_under_three_bytes() -> None:
    rng = np.random.default_rng(7)
    tests = np.arange(50 * SEGMENT)
    seconds = np.round(rng.lognormal(-5, 1.2, len(tests)), 3)
    outcomes = np.where(rng.random(len(tests)) < 0.002, 2, 1).astype(np.uint8)
    size = sum(len(s.outcomes) + len(s.durations) for s in pack(tests, outcomes, seconds))
    assert size / len(tests) < 3
