"""Which dimension values explain that some cells are affected: the shortest exact condition.

Candidates are conjunctions of at most two conditions on single dimensions, where a condition is an
interval in version order, one value, or all but one; the first exact one in order of length wins.
Exhaustive over a job's few dimensions, so the answer is exact within this language.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence

from myriant.core.plan.selectors import Condition, condition
from myriant.core.plan.versions import is_version, version_key


def explain(cells: Sequence[Mapping[str, str]], affected: Sequence[bool]) -> str | None:
    """A selector that holds for exactly the affected of `cells` (all that gave a result), or None.

    None as well when every cell is affected: nothing sets them apart.
    """
    if not any(affected) or all(affected):
        return None
    conditions = list(_conditions(cells))
    reach = [(c, [c.holds(cell) for cell in cells]) for c in conditions]
    wanted = list(affected)
    for one, cover in reach:
        if cover == wanted:
            return str(one)
    for (one, first), (two, second) in itertools.combinations(reach, 2):
        if one.key != two.key and [a and b for a, b in zip(first, second, strict=True)] == wanted:
            return f"{one},{two}"
    return None


def _conditions(cells: Sequence[Mapping[str, str]]) -> list[Condition]:
    found: list[Condition] = []
    ranges: list[Condition] = []
    for key in dict.fromkeys(key for cell in cells for key in cell):
        values = sorted({cell[key] for cell in cells if key in cell}, key=version_key)
        if len(values) < 2:
            continue
        found += [condition(key, v) for v in values]
        if all(is_version(v) for v in values) and len(values) > 2:
            ranges += [condition(key, f"<= {v}") for v in values[1:-1]]
            ranges += [condition(key, f">= {v}") for v in values[1:-1]]
            ranges += [
                condition(key, f">= {low} <= {high}")
                for i, low in enumerate(values[1:-1], 1)
                for high in values[i + 1 : -1]
            ]
        elif len(values) > 2:
            ranges += [condition(key, f"!{v}") for v in values]
    return [*found, *ranges]
