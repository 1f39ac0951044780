"""Faults with a known condition in full and sampled matrices: how often the explanation is just that condition."""

from __future__ import annotations

import itertools
import random
import time

from tests.bench.measure import report

from myriant.core.diagnosis.explain import explain
from myriant.core.matrix.sample import sample
from myriant.core.plan.selectors import Selector, parse_selector

DIMENSIONS = {
    "python": ("3.8", "3.9", "3.10", "3.11", "3.12"),
    "rounding": ("nearest", "bankers", "down"),
    "database": ("14", "15", "16"),
    "locale": ("de", "en"),
}


def fault(rng: random.Random) -> Selector:
    """One condition, or two on different dimensions."""
    parts = []
    for key in rng.sample(list(DIMENSIONS), rng.choice((1, 1, 2))):
        values = DIMENSIONS[key]
        sign = rng.choice(("=", "<=", ">=")) if key in ("python", "database") else rng.choice(("=", "=", "!="))
        parts.append(f"{key}{sign}{rng.choice(values[1:-1] if sign in ('<=', '>=') else values)}")
    return parse_selector(",".join(parts))


def measure() -> None:
    full = [dict(zip(DIMENSIONS, values, strict=True)) for values in itertools.product(*DIMENSIONS.values())]
    rows = sample([len(v) for v in DIMENSIONS.values()], 2)
    pairwise = [{k: v[int(at)] for (k, v), at in zip(DIMENSIONS.items(), row, strict=True)} for row in rows]
    for name, ran in (("full matrix", full), ("pairwise sample", pairwise)):
        rng = random.Random(7)
        without = [c for c in full if c not in ran]
        exact = among = resolved = 0
        extra: list[float] = []
        seconds: list[float] = []
        for _ in range(1000):
            truth = fault(rng)
            cells, rest = list(ran), list(without)
            begun = time.perf_counter()
            told = explain(cells, [truth.holds(c) for c in cells], rest)
            seconds.append(time.perf_counter() - begun)
            exact += _says(told.selector, truth, full)
            among += any(_says(s, truth, full) for s in (told.selector, *told.rivals))
            more = 0
            while told.next is not None and more < 12:  # the cell that it asks for is run
                cells.append(rest.pop(told.next))
                more += 1
                told = explain(cells, [truth.holds(c) for c in cells], rest)
            resolved += _says(told.selector, truth, full)
            extra.append(more)
        said = f"1,000 faults, {name} of {len(ran)} cells"
        report(f"{said}: explained by just their condition", [exact / 1000], "share")
        report(f"{said}: it or a named rival is the condition", [among / 1000], "share")
        report(f"{said}: explained after running the cells asked for", [resolved / 1000], "share")
        report(f"{said}: cells asked for", extra, "cells")
        report(f"{said}: time of one", seconds, "s")


def _says(selector: str | None, truth: Selector, cells: list[dict[str, str]]) -> bool:
    """Whether a told condition holds for the same cells as the true one; none is right when all or no cells are affected."""
    holds = [truth.holds(c) for c in cells]
    if selector is None:
        return all(holds) or not any(holds)
    told = parse_selector(selector)
    return [told.holds(c) for c in cells] == holds
