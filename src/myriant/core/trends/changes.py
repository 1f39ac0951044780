"""Where a series changed: binary segmentation by ranks.

Within a segment each split is scored by the Wilcoxon rank-sum statistic of what lies before against what lies after
(Mann and Whitney 1947; Pettitt 1979 for the largest over all splits), which outliers and the shape of the noise do not
move. The largest score is a change when it is beyond what the same number of exchangeable values reach in 1 of 200
series, when the medians differ by more than the noise, and by a share that anybody would call a change. Both halves
are then looked at in the same way (Scott and Knott 1974; Vostrikova 1981).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.float64]
LEAST = 5  # values on either side
ALARMS = 0.005  # share of series without a change in which one segment gives an alarm
LEAST_SHARE = 0.05  # of the median before: a smaller shift is none
NOISE = 1.0  # medians differ by more than so many typical deviations


@dataclass(frozen=True, slots=True)
class Change:
    """The series has another level from index `at` on; it lies surely between `earliest` and `latest`."""

    at: int
    earliest: int
    latest: int
    before: float  # median of the level before
    after: float
    score: float  # of the rank-sum statistic, in standard deviations


def changes(values: Sequence[float | None] | Values, least: float = LEAST_SHARE) -> list[Change]:
    """Changes of level in the order of the series. None and NaN are left out; indexes are of the whole series.

    A shift by less than the share `least` of the level before is none.
    """
    whole = values if isinstance(values, np.ndarray) else np.array(values, np.float64)  # None becomes NaN
    kept = np.flatnonzero(np.isfinite(whole))
    series = whole[kept]
    if len(kept) < 2 * LEAST:
        return []
    lasting = _lasting(series)
    places: list[int] = []
    _look(series, 0, places, lasting)
    found = _lasting_ones(series, sorted(places), lasting, least)
    edges = [0, *(at for at, *_ in found), len(kept)]
    told = []
    for i, (at, low, high, score) in enumerate(found):
        before = float(np.median(whole[kept[edges[i] : at]]))
        after = float(np.median(whole[kept[at : edges[i + 2]]]))
        told.append(Change(int(kept[at]), int(kept[low]), int(kept[high]), before, after, score))
    return told


def _look(values: Values, start: int, places: list[int], lasting: float) -> None:
    """Where a change may be; what stands between two others is only judged when all are known."""
    n = len(values)
    if n < 2 * LEAST or values.min() == values.max():
        return
    scores = _scores(values)
    at = int(np.argmax(scores)) + LEAST
    if float(scores.max()) * lasting <= _bound(n):
        return
    places.append(start + at)
    _look(values[:at], start, places, lasting)
    _look(values[at:], start + at, places, lasting)


def _lasting_ones(values: Values, places: list[int], lasting: float, least: float) -> list[tuple[int, int, int, float]]:
    """The changes that hold beside their neighbours: each is placed anew between them, and the weakest is left out."""
    while True:
        placed = _placed(values, places)
        edges = [0, *(at for at, *_ in placed), len(values)]
        weak = [
            (score, i)
            for i, (at, _, _, score) in enumerate(placed)
            if score * lasting <= _bound(edges[i + 2] - edges[i])
            or not _counts(values[edges[i] : at], values[at : edges[i + 2]], least)
        ]
        if not weak:
            return placed
        places = [at for i, (at, *_) in enumerate(placed) if i != min(weak)[1]]


def _placed(values: Values, places: list[int]) -> list[tuple[int, int, int, float]]:
    """Each change where it stands best between its neighbours: found first, it did not know of them."""
    edges = [0, *places, len(values)]
    placed = []
    for i in range(len(places)):
        start, end = edges[i], edges[i + 2]
        scores = _scores(values[start:end])
        k = int(np.argmax(scores))
        near = np.flatnonzero(scores >= scores[k] - 1.0) + LEAST + start  # splits that explain it nearly as well
        edges[i + 1] = start + k + LEAST
        placed.append((edges[i + 1], int(near.min()), int(near.max()), float(scores[k])))
    return placed


def _scores(values: Values) -> Values:
    """The absolute rank-sum statistic of each split, in standard deviations under exchangeability, ties included."""
    n = len(values)
    ranks = _ranks(values)
    left = np.arange(LEAST, n - LEAST + 1)
    sums = np.cumsum(ranks)[left - 1]
    spread = float(np.sum((ranks - ranks.mean()) ** 2)) / (n * (n - 1))
    deviation = np.sqrt(np.maximum(spread * left * (n - left), 1e-12))
    score: Values = np.abs(sums - left * (n + 1) / 2) / deviation
    return score


def _lasting(values: Values) -> float:
    """By how much neighbours that resemble each other make the score smaller: noise that lasts is no change.

    The factor for a first-order autoregressive series (Bartlett 1946). How much they resemble each other is told by
    typical differences over one step and over two, 2σ²(1 − ρ) and 2σ²(1 − ρ²), which few changes of level do not move.
    """
    near, far = (_deviation(values[k:] - values[:-k]) for k in (1, 2))
    like = (far / near) ** 2 - 1 if near > 0 else 0.0
    like = min(max(like - 2 / math.sqrt(len(values)), 0.0), 0.9)
    return math.sqrt((1 - like) / (1 + like))


def _ranks(values: Values) -> Values:
    """Ranks from 1; equal values share the mean of theirs."""
    _, place, counts = np.unique(values, return_inverse=True, return_counts=True)
    means: Values = np.cumsum(counts) - (counts - 1) / 2
    return means[place]


def _counts(before: Values, after: Values, least: float) -> bool:
    """Whether a shift is more than the noise, and more than anybody would overlook."""
    shift = abs(float(np.median(after) - np.median(before)))
    noise = max(_deviation(before), _deviation(after))
    scale = abs(float(np.median(before)))
    return shift > NOISE * noise and shift >= least * scale


def _deviation(values: Values) -> float:
    return 1.4826 * float(np.median(np.abs(values - np.median(values))))


# What the largest score of n exchangeable values passes in a share of ALARMS of all series: 12,000 to 60,000 of each.
_BOUNDS = {
    10: 2.611, 12: 2.842, 15: 2.946, 20: 3.099, 30: 3.281, 50: 3.439, 80: 3.546, 120: 3.632, 200: 3.680, 400: 3.762,
    800: 3.854, 2000: 3.933, 5000: 4.008,
}  # fmt: skip


def _bound(n: int) -> float:
    return float(np.interp(math.log(n), np.log(list(_BOUNDS)), list(_BOUNDS.values())))
