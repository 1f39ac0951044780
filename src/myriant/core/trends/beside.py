"""Two values of a dimension beside each other, in the runs in which both ran under the same conditions."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from myriant.core.trends.versions import CellTotal

CHANCE = 0.01  # how often what is called more than chance is chance, of what does not differ


@dataclass(frozen=True, slots=True)
class Beside:
    """Runs count: cells of one run fail together and are no evidence of their own."""

    job: str
    dimension: str
    one: str
    other: str
    runs: int  # in which some pair of cells differed in nothing but this value
    both: int  # of these, in which cells of both failed
    only_one: int
    only_other: int
    fails_more: str  # the value that fails more than chance, empty where neither does
    ratio: float | None  # seconds of a cell with one ÷ with the other, the median over runs
    slower: str  # the value that takes longer by more than chance, empty where neither does


def beside(cells: Iterable[CellTotal], job: str, dimension: str, one: str, other: str) -> Beside:
    """Pairs of cells of one run that differ in the value alone.

    Failures: the exact test of McNemar (1947) on runs in which one alone failed. Times: the signed-rank test of
    Wilcoxon (1945) on each run's median ratio.
    """
    pairs: dict[tuple[int, tuple[tuple[str, str], ...]], dict[str, CellTotal]] = {}
    for c in cells:
        if c.job == job and c.values.get(dimension) in (one, other):
            rest = tuple(sorted((d, v) for d, v in c.values.items() if d != dimension))
            pairs.setdefault((c.run, rest), {})[c.values[dimension]] = c
    from scipy import stats  # here: it takes a second to load, and is seldom asked

    failed: dict[int, list[bool]] = {}
    ratios: dict[int, list[float]] = {}
    for (run, _), pair in pairs.items():
        if len(pair) < 2:
            continue
        mine, its = pair[one], pair[other]
        seen = failed.setdefault(run, [False, False])
        seen[0] |= mine.ended_failed
        seen[1] |= its.ended_failed
        if mine.seconds > 0 and its.seconds > 0:
            ratios.setdefault(run, []).append(mine.seconds / its.seconds)
    both = sum(a and b for a, b in failed.values())
    only_one = sum(a and not b for a, b in failed.values())
    only_other = sum(b and not a for a, b in failed.values())
    apart = only_one + only_other
    sure = apart > 0 and float(stats.binomtest(only_one, apart).pvalue) < CHANCE
    told = np.log([np.median(r) for r in ratios.values()])
    differs = len(told) > 0 and np.any(told != 0) and float(stats.wilcoxon(told).pvalue) < CHANCE
    ratio = float(np.exp(np.median(told))) if len(told) else None
    return Beside(
        job,
        dimension,
        one,
        other,
        len(failed),
        both,
        only_one,
        only_other,
        (one if only_one > only_other else other) if sure else "",
        ratio,
        (one if ratio > 1 else other) if ratio is not None and differs else "",
    )
