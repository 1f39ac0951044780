"""Samples as JSON lines: median and range, and ratios to a baseline measured in turns with it."""

from __future__ import annotations

import json
import statistics
import time
from collections.abc import Callable


def report(name: str, samples: list[float], unit: str, **more: object) -> float:
    """Print one line; the median."""
    median = statistics.median(samples)
    line = {
        "measure": name,
        "median": round(median, 4),
        "least": round(min(samples), 4),
        "most": round(max(samples), 4),
    }
    print(json.dumps({**line, "unit": unit, "samples": len(samples), **more}), flush=True)
    return median


def timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def against(
    name: str, work: Callable[[], object], baseline: Callable[[], object], *, samples: int = 5, **more: object
) -> None:
    """Time both in turns; report the work, the baseline and the ratio of each pair."""
    ours, theirs = [], []
    for _ in range(samples):
        theirs.append(timed(baseline))
        ours.append(timed(work))
    report(f"{name}: baseline", theirs, "s")
    report(name, ours, "s")
    report(f"{name}: ratio", [a / b for a, b in zip(ours, theirs, strict=True)], "ratio", **more)
