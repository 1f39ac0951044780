"""Tests that take longer than at the baseline, beyond what all tests of the cell differ by."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

LEAST = 0.2  # seconds that a change is worth a word
TIMES = 1.5
BEYOND = 5.0  # robust standard deviations
Durations = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class Slower:
    """A test by number, with its median seconds over the cells compared, before and now."""

    test: int
    before: float
    now: float
    cells: int


def slower(now: Mapping[object, Durations], before: Mapping[object, Durations]) -> list[Slower]:
    """Tests slower in every cell that can be compared, the most costly first.

    Of each cell the median ratio is taken out (a slower machine), and what is left is measured against the median
    absolute deviation of that cell's tests of at least 10 ms (Rousseeuw and Croux 1993).
    """
    flagged: dict[int, list[tuple[float, float]]] = {}
    compared: dict[int, int] = {}
    for name, seconds in now.items():
        earlier = before.get(name)
        if earlier is None:
            continue
        size = min(len(seconds), len(earlier))
        a, b = seconds[:size], earlier[:size]
        both = np.flatnonzero((a > 0) & (b > 0))
        if not len(both):
            continue
        for test in both[np.maximum(a[both], b[both]) >= LEAST].tolist():
            compared[test] = compared.get(test, 0) + 1
        large = both[np.maximum(a[both], b[both]) >= 0.01]
        if not len(large):
            continue
        ratios = np.log(a[large] / b[large])
        middle = float(np.median(ratios)) if len(large) >= 10 else 0.0
        spread = max(1.4826 * float(np.median(np.abs(ratios - middle))), 0.05) if len(large) >= 10 else 0.1
        odd = large[
            (ratios - middle > BEYOND * spread)
            & (ratios - middle > np.log(TIMES))
            & (a[large] - b[large] * np.exp(middle) > LEAST)
        ]
        for test in odd.tolist():
            flagged.setdefault(test, []).append((float(b[test]), float(a[test])))
    found = [
        Slower(test, float(np.median([x for x, _ in pairs])), float(np.median([y for _, y in pairs])), len(pairs))
        for test, pairs in flagged.items()
        if len(pairs) == compared[test]
    ]
    return sorted(found, key=lambda s: (s.before - s.now) * s.cells)
