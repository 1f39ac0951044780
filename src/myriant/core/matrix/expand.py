"""Expansion: a job's dimensions become cells."""

from __future__ import annotations

import itertools
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from math import prod
from typing import TYPE_CHECKING

from myriant.core.plan.model import Job
from myriant.core.plan.selectors import Selector, written

if TYPE_CHECKING:
    from myriant.core.matrix.sample import BlindSpots, Rows


@dataclass(frozen=True, slots=True)
class Cell:
    """One combination of a job; `wants` are runtime wishes such as "python 3.12" and labels, "label linux"."""

    job: str
    values: dict[str, str]
    selected: bool = True
    advisory: bool = False
    wants: tuple[str, ...] = ()
    added: bool = False

    @property
    def key(self) -> str:
        """The cell's name inside its job: "python=3.12,rounding=nearest", empty without dimensions."""
        return written(self.values)


def expand(job: Job) -> list[Cell]:
    """All cells of a job that remain after drop, in the order the plan writes the values, then the added ones."""
    dropped, advisory = _table(job, job.drop), _table(job, job.advisory)
    dimensions = tuple(job.vary)
    cells = []
    seen = set()
    fixed = tuple(f"{family} {job.pin[family]}" for family in job.runtime if family in job.pin)
    fixed += tuple(f"label {label}" for label in job.runner)
    for combination in itertools.product(*job.vary.values()):
        if _holds(dropped, combination):
            continue
        seen.add(combination)
        values = dict(zip(dimensions, combination, strict=True))
        cells.append(Cell(job.id, values, True, _holds(advisory, combination), _wants(job, values) + fixed))
    for values in job.add:
        combination = tuple(values[d] for d in dimensions)
        if combination not in seen:
            seen.add(combination)
            is_advisory = job.advisory is not None and job.advisory.holds(values)
            cells.append(Cell(job.id, dict(values), True, is_advisory, _wants(job, values) + fixed, added=True))
    return cells


def dropped_cells(job: Job) -> list[dict[str, str]]:
    """The combinations that drop takes out."""
    dropped = _table(job, job.drop)
    return [
        dict(zip(job.vary, combination, strict=True))
        for combination in itertools.product(*job.vary.values())
        if _holds(dropped, combination)
    ]


def combinations(job: Job) -> int:
    return prod(len(v) for v in job.vary.values())


def _wants(job: Job, values: Mapping[str, str]) -> tuple[str, ...]:
    return tuple(f"{family} {values[family]}" for family in job.runtime if family in values)


_Table = list[tuple[tuple[int, frozenset[str]], ...]]


def _table(job: Job, selector: Selector | None) -> _Table:
    """A selector as sets of the values that meet it, by the dimension's place."""
    if selector is None:
        return []
    places = {d: i for i, d in enumerate(job.vary)}
    table: _Table = []
    for alternative in selector.alternatives:
        rows = []
        for c in alternative:
            if c.key in places:
                rows.append((places[c.key], frozenset(v for v in job.vary[c.key] if c.holds({c.key: v}))))
            elif not c.holds(job.pin):
                break
        else:
            table.append(tuple(rows))
    return table


def _holds(table: _Table, combination: Sequence[str]) -> bool:
    return any(all(combination[i] in values for i, values in row) for row in table)


@dataclass(frozen=True, slots=True)
class Sampled:
    """The cells with their choice, and what no chosen cell shows."""

    cells: list[Cell]
    blind: BlindSpots | None
    examples: list[dict[str, str]]


def choose(job: Job, cells: Sequence[Cell], keep: Collection[str] = ()) -> Sampled:
    """Choose a sample of a job's cells; added and advisory cells are always chosen beside it.

    `keep` are the keys of cells that an earlier sample chose: they stay while they cover something of their own.
    """
    import numpy as np  # here: every command of the CLI is loaded with this module, and few choose a sample

    from myriant.core.matrix.sample import blind_spots, sample

    assert job.sample is not None
    names = list(job.vary)
    if not names:  # nothing to choose from
        return Sampled(list(cells), None, [])
    indices = [{v: i for i, v in enumerate(job.vary[d])} for d in names]
    ordinary = [c for c in cells if not c.added and not c.advisory]
    listed = np.array(
        [[index[c.values[d]] for d, index in zip(names, indices, strict=True)] for c in ordinary], np.int16
    )
    listed = listed.reshape(len(ordinary), len(names))
    by_row = {tuple(row): c for row, c in zip(listed.tolist(), ordinary, strict=True)}
    wanted = set(keep)
    kept: Rows = np.array([r for r, c in by_row.items() if c.key in wanted], np.int16).reshape(-1, len(names))
    levels = [len(job.vary[d]) for d in names]
    rows = sample(levels, job.sample.strength, listed, kept)
    chosen = {by_row[tuple(row)].key for row in rows.tolist()}
    blind = blind_spots(levels, rows, listed, job.sample.strength + 1)
    examples = [{names[f]: job.vary[names[f]][v] for f, v in e} for e in blind.examples] if blind else []
    told = [replace(c, selected=c.added or c.advisory or c.key in chosen) for c in cells]
    return Sampled(told, blind, examples)
