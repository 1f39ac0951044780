"""Which dimension values explain that some cells are affected: the shortest exact condition, and its rivals.

Candidates are conjunctions of conditions on single dimensions: one value, all but one, or an interval in version
order. The shortest exact one is the explanation; others of that length that would say something else of a cell that
did not run are its rivals, and the cell on which they disagree most evenly is the one to run next. Where nothing is
exact, the condition with the fewest misses (affected cells outside it, and unaffected ones inside) is named with its
misses, if it has fewer than half of what "every cell" and "no cell" miss. Exhaustive over a job's few dimensions, so
exact within this language.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from myriant.core.plan.selectors import Condition, condition
from myriant.core.plan.versions import is_version, version_key

MOST_CONDITIONS = 3  # in one conjunction
MOST_RIVALS = 5
_MOST_TRIED = 200_000


@dataclass(frozen=True, slots=True)
class Explanation:
    """`selector` is None when every cell is affected or nothing explains it well.

    `inside` counts unaffected cells that it holds for, `outside` affected ones that it does not: both 0 when exact.
    `rivals` are equally short exact conditions that differ on cells without a result; `next` is the index, among the
    cells without one, of the cell that tells most of them apart.
    """

    selector: str | None
    inside: int = 0
    outside: int = 0
    rivals: tuple[str, ...] = ()
    next: int | None = None

    @property
    def parts(self) -> int:
        """How many conditions it is made of, when it is exact."""
        return self.selector.count(",") + 1 if self.selector is not None and self.exact else 0

    @property
    def exact(self) -> bool:
        return self.selector is not None and not self.inside and not self.outside


def explain(
    cells: Sequence[Mapping[str, str]], affected: Sequence[bool], without: Sequence[Mapping[str, str]] = ()
) -> Explanation:
    """Explain which of `cells` (all that gave a result) are affected; `without` are cells that gave none."""
    wanted = _mask(affected)
    every = (1 << len(cells)) - 1
    if not wanted or (wanted == every and not without):
        return Explanation(None)
    conditions = [(c, _mask([c.holds(cell) for cell in cells])) for c in _conditions([*cells, *without])]
    exact = _exact(conditions, wanted, every)
    if wanted == every:  # nothing sets apart what ran; what did not run may still be different
        return Explanation(None)
    if not exact:
        return _best(conditions, wanted, every)
    if not without:
        return Explanation(_written(exact[0]))
    told: dict[int, tuple[Condition, ...]] = {}
    for found in exact:
        told.setdefault(_mask([all(c.holds(cell) for c in found) for cell in without]), found)
    rivals = list(told.items())[: 1 + MOST_RIVALS]
    return Explanation(
        _written(rivals[0][1]),
        rivals=tuple(_written(r) for _, r in rivals[1:]),
        next=_telling([mask for mask, _ in rivals], len(without)),
    )


def _mask(flags: Sequence[bool]) -> int:
    return sum(1 << i for i, flag in enumerate(flags) if flag)


def _written(found: Sequence[Condition]) -> str:
    return ",".join(str(c) for c in found)


def _exact(conditions: Sequence[tuple[Condition, int]], wanted: int, every: int) -> list[tuple[Condition, ...]]:
    """All shortest conjunctions that hold for just the wanted cells."""
    holding = [(c, mask) for c, mask in conditions if mask & wanted == wanted and mask != every]
    for size in range(1, MOST_CONDITIONS + 1):
        found = []
        for parts in itertools.islice(itertools.combinations(holding, size), _MOST_TRIED):
            mask = every
            for _, other in parts:
                mask &= other
            if mask == wanted and len({c.key for c, _ in parts}) == size:
                found.append(tuple(c for c, _ in parts))
        if found:
            return found
    return []


def _best(conditions: Sequence[tuple[Condition, int]], wanted: int, every: int) -> Explanation:
    """The conjunction of at most two conditions with the fewest misses, if it explains the better part."""
    limit = min(wanted.bit_count(), (every & ~wanted).bit_count())
    best: tuple[Condition, ...] = ()
    misses = limit
    for size in (1, 2):
        for parts in itertools.islice(itertools.combinations(conditions, size), _MOST_TRIED):
            mask = every
            for _, other in parts:
                mask &= other
            wrong = (mask ^ wanted).bit_count()
            if wrong < misses and len({c.key for c, _ in parts}) == size:
                best, misses = tuple(c for c, _ in parts), wrong
    if not best or 2 * misses >= limit:
        return Explanation(None)
    mask = every
    known = dict(conditions)
    for c in best:
        mask &= known[c]
    return Explanation(_written(best), (mask & ~wanted).bit_count(), (wanted & ~mask).bit_count())


def _telling(answers: Sequence[int], cells: int) -> int | None:
    """The cell on which the rivals are divided most evenly."""
    if len(answers) < 2:
        return None
    split = [min(n := sum(a >> i & 1 for a in answers), len(answers) - n) for i in range(cells)]
    return max(range(cells), key=lambda i: split[i]) if any(split) else None


def _conditions(cells: Sequence[Mapping[str, str]]) -> Iterator[Condition]:
    """One value, intervals in version order, all but one: in the order in which they are preferred."""
    ranges: list[Condition] = []
    for key in dict.fromkeys(key for cell in cells for key in cell):
        values = sorted({cell[key] for cell in cells if key in cell}, key=version_key)
        if len(values) < 2:
            continue
        yield from (condition(key, v) for v in values)
        if len(values) == 2:
            continue
        if all(is_version(v) for v in values):
            ranges += [condition(key, f"<= {v}") for v in values[1:-1]]
            ranges += [condition(key, f">= {v}") for v in values[1:-1]]
            ranges += [condition(key, f">= {low} <= {high}") for low, high in itertools.combinations(values[1:-1], 2)]
            ranges += [condition(key, f"!{v}") for v in values[1:-1]]
        else:
            ranges += [condition(key, f"!{v}") for v in values]
            ranges += [condition(key, list(pair)) for pair in itertools.combinations(values, 2) if len(values) > 3]
    yield from ranges


def beyond_chance(told: Explanation, affected: int, cells: int) -> bool:
    """Whether a condition says more than that some cells happened to fail: there are fewer conditions as short as it
    than ways to choose as many cells (with a margin of e²).
    """
    if told.selector is None or not 0 < affected < cells:
        return False
    of_one = 20  # conditions on a usual matrix's dimensions
    parts = told.selector.count(",") + 1
    return parts * math.log(of_one) - math.lgamma(parts + 1) + 2 <= (
        math.lgamma(cells + 1) - math.lgamma(affected + 1) - math.lgamma(cells - affected + 1)
    )


def either(cells: Sequence[Mapping[str, str]], affected: Sequence[bool]) -> tuple[str, str] | None:
    """Two conditions on single dimensions that together hold for just the affected cells, where no single one does:
    two faults that look alike, or one with two ways in. None where there are none, where more than one pair would do,
    or where nothing is left unaffected: then it shows everywhere.
    """
    wanted = _mask(affected)
    if all(affected):
        return None
    inside = [(c, m) for c in _conditions(cells) if (m := _mask([c.holds(x) for x in cells])) and m & ~wanted == 0]
    best = {m: c for c, m in reversed(inside)}  # of conditions that hold for the same cells the first, the simplest
    most = [m for m in best if not any(m != other and m & other == m for other in best)]  # none lies within another
    pairs = [(a, b) for a, b in itertools.combinations(most, 2) if a | b == wanted]
    return (str(best[pairs[0][0]]), str(best[pairs[0][1]])) if len(pairs) == 1 else None
