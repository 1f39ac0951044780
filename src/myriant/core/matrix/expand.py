"""Expansion: a job's dimensions become cells."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

from myriant.core.plan.model import Job
from myriant.core.plan.selectors import written


@dataclass(frozen=True, slots=True)
class Cell:
    """One combination of a job; `wants` are runtime wishes such as "python 3.12"."""

    job: str
    values: dict[str, str]
    selected: bool = True
    advisory: bool = False
    wants: tuple[str, ...] = ()

    @property
    def key(self) -> str:
        """The cell's name inside its job: "python=3.12,rounding=nearest", empty without dimensions."""
        return written(self.values)


def expand(job: Job) -> list[Cell]:
    """All cells of a job that remain after drop, in the order the plan writes the values."""
    cells = []
    for combination in itertools.product(*job.vary.values()):
        values = dict(zip(job.vary, combination, strict=True))
        if not job.drop.holds(values):
            wants = tuple(f"{family} {values[family]}" for family in job.runtime)
            cells.append(Cell(job.id, values, wants=wants))
    return cells
