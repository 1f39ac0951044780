"""Where the level of a series changed: binary segmentation on medians of logarithms."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

LEAST_SPAN = 4
PENALTY = 12.0  # of one change, in units of squared noise: about 3 ln n for a few hundred values
LEAST_TIMES = 1.2


@dataclass(frozen=True, slots=True)
class Change:
    """The level changed at place `at` of the series (its first value of the new level)."""

    at: int
    before: float
    now: float


def level_changes(values: Sequence[float]) -> list[Change]:
    """Changes of the level of positive values, in order; NaN is left out.

    Binary segmentation (Scott and Knott 1974; Fryzlewicz 2014) with the sum of absolute deviations from the median
    of logarithms as cost, the noise taken from differences of neighbours; changes below 20 % are not named.
    """
    series = np.array(values, float)
    places = np.flatnonzero(np.isfinite(series) & (series > 0))
    logs = np.log(series[places])
    if len(logs) < 2 * LEAST_SPAN:
        return []
    noise = max(1.4826 * float(np.median(np.abs(np.diff(logs)))) / np.sqrt(2), 0.02)
    edges = sorted(_split(logs / noise, 0, len(logs)))
    found = []
    bounds = [0, *edges, len(logs)]
    for low, at, high in zip(bounds, bounds[1:], bounds[2:], strict=False):
        before, now = np.exp(np.median(logs[low:at])), np.exp(np.median(logs[at:high]))
        if max(before, now) / min(before, now) >= LEAST_TIMES:
            found.append(Change(int(places[at]), float(before), float(now)))
    return found


def _cost(part: NDArray[np.float64]) -> float:
    return float(np.abs(part - np.median(part)).sum())


def _split(logs: NDArray[np.float64], low: int, high: int) -> list[int]:
    if high - low < 2 * LEAST_SPAN:
        return []
    whole = _cost(logs[low:high])
    best, at = whole, -1
    for i in range(low + LEAST_SPAN, high - LEAST_SPAN + 1):
        cost = _cost(logs[low:i]) + _cost(logs[i:high])
        if cost < best:
            best, at = cost, i
    if at < 0 or whole - best < PENALTY:
        return []
    return [*_split(logs, low, at), at, *_split(logs, at, high)]
