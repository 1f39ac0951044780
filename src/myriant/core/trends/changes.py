"""Where a series changed: binary segmentation by ranks.

Within a segment each split is scored by the Wilcoxon rank-sum statistic of what lies before against what lies after
(Mann and Whitney 1947; Pettitt 1979 for the largest over all splits), which outliers and the shape of the noise do not
move. The largest score is a change when it is beyond what the same number of exchangeable values reach in 1 of 200
series, when the medians differ by more than the noise, and by a share that anybody would call a change. Both halves
are then looked at in the same way (Scott and Knott 1974; Vostrikova 1981).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.float64]
_Placed = tuple[int, int, int, float]  # where, earliest, latest, score
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
        before, after = _median(series[edges[i] : at]), _median(series[at : edges[i + 2]])
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


def _lasting_ones(values: Values, places: list[int], lasting: float, least: float) -> list[_Placed]:
    """The changes that hold beside their neighbours: each is placed anew between them, and the weakest is left out.

    Who leaves moves few of the others, so what was found between two edges is kept: a series that only ever rises has
    many places at first.
    """
    best = cache(lambda start, end: _best(values, start, end))
    while True:
        placed = _placed(places, len(values), best)
        edges = [0, *(at for at, *_ in placed), len(values)]

        def is_weak(i: int, placed: list[_Placed] = placed, edges: list[int] = edges) -> bool:
            start, at, end = edges[i : i + 3]
            return placed[i][3] * lasting <= _bound(end - start) or not _counts(values[start:at], values[at:end], least)

        weakest = next(filter(is_weak, sorted(range(len(placed)), key=lambda i: placed[i][3])), None)
        if weakest is None:
            return placed
        places = [at for i, (at, *_) in enumerate(placed) if i != weakest]


def _placed(places: list[int], end: int, best: Callable[[int, int], _Placed]) -> list[_Placed]:
    """Each change where it stands best between its neighbours: found first, it did not know of them."""
    edges = [0, *places, end]
    placed = []
    for i in range(len(places)):
        placed.append(best(edges[i], edges[i + 2]))
        edges[i + 1] = placed[-1][0]
    return placed


def _best(values: Values, start: int, end: int) -> _Placed:
    scores = _scores(values[start:end])
    k = int(np.argmax(scores))
    near = np.flatnonzero(scores >= scores[k] - 1.0) + LEAST + start  # splits that explain it nearly as well
    return start + k + LEAST, int(near.min()), int(near.max()), float(scores[k])


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
    ordered = np.sort(values)
    ranks: Values = (ordered.searchsorted(values, "left") + ordered.searchsorted(values, "right") + 1) / 2
    return ranks


def _counts(before: Values, after: Values, least: float) -> bool:
    """Whether a shift is more than the noise, and more than anybody would overlook."""
    shift = abs(_median(after) - _median(before))
    noise = max(_deviation(before), _deviation(after))
    scale = abs(_median(before))
    return shift > NOISE * noise and shift >= least * scale


def _deviation(values: Values) -> float:
    return 1.4826 * _median(np.abs(values - _median(values)))


def _median(values: Values) -> float:
    """Of finite values; np.median takes several times as long for a few, as it asks first what they are."""
    n = len(values)
    middle = np.partition(values, (n // 2, (n - 1) // 2))
    return float(middle[n // 2] + middle[(n - 1) // 2]) / 2


# What the largest score of n exchangeable values passes in a share of ALARMS of all series: 12,000 to 60,000 of each.
_BOUNDS = {
    10: 2.611,
    12: 2.842,
    15: 2.946,
    20: 3.099,
    30: 3.281,
    50: 3.439,
    80: 3.546,
    120: 3.632,
    200: 3.680,
    400: 3.762,
    800: 3.854,
    2000: 3.933,
    5000: 4.008,
}


_LENGTHS = np.log(list(_BOUNDS))
_REACHED = np.array(list(_BOUNDS.values()))


def _bound(n: int) -> float:
    return float(np.interp(math.log(n), _LENGTHS, _REACHED))
