"""What each cell adds to coverage, and how few of them reach all that is reached."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from myriant.core.coverage.model import FileCoverage

SECONDS = 3.0  # for proving that no fewer cells would do


@dataclass(frozen=True, slots=True)
class CellShares:
    """By cell, in the order given: lines it reaches, and those that no other does. `least` are the places of a set of
    cells that reaches every line that any reaches; `smallest`: no smaller one does."""

    reached: list[int]
    alone: list[int]
    least: list[int]
    smallest: bool


def shares_of_cells(of_cells: Sequence[Mapping[str, FileCoverage]]) -> CellShares:
    """The least set of cells is a minimum set cover (a mixed-integer programme, by scipy.optimize.milp)."""
    groups = _groups(of_cells)
    cells = len(of_cells)
    if not groups:
        return CellShares([0] * cells, [0] * cells, [], True)
    reach = np.array([np.frombuffer(mask, np.uint8) for mask in groups], bool)
    lines = np.array(list(groups.values()), np.int64)
    reached = lines @ reach
    alone = lines[reach.sum(1) == 1] @ reach[reach.sum(1) == 1]
    least, smallest = _least(reach, reached)
    return CellShares([int(n) for n in reached], [int(n) for n in np.broadcast_to(alone, cells)], least, smallest)


def _groups(of_cells: Sequence[Mapping[str, FileCoverage]]) -> dict[bytes, int]:
    """How many lines the very same cells reach, by those cells: a byte a cell, 1 where it reaches them."""
    found: dict[bytes, int] = {}
    for path in sorted({path for files in of_cells for path in files}):
        mine = [(i, files[path]) for i, files in enumerate(of_cells) if path in files]
        lines = np.unique(np.concatenate([f.lines[f.hits > 0] for _, f in mine]))
        if not len(lines):
            continue
        masks = np.zeros((len(lines), len(of_cells)), np.uint8)
        for i, file in mine:
            masks[np.searchsorted(lines, file.lines[file.hits > 0]), i] = 1
        rows, counts = np.unique(masks, axis=0, return_counts=True)
        for row, count in zip(rows, counts.tolist(), strict=True):
            found[row.tobytes()] = found.get(row.tobytes(), 0) + count
    return found


def _least(reach: np.ndarray, reached: np.ndarray) -> tuple[list[int], bool]:
    """A smallest set of columns that has a mark in every row; ties go to those that reach more."""
    cells = reach.shape[1]
    most = float(reached.max()) + 1
    cost = 1 + (1 - reached / most) / (4 * cells)  # all ties together weigh less than one cell
    from scipy import optimize, sparse  # here: they take a second to load

    asked = optimize.LinearConstraint(sparse.csr_array(reach.astype(float)), lb=1)
    whole, bounds = np.ones(cells), optimize.Bounds(0, 1)
    told = optimize.milp(cost, constraints=asked, integrality=whole, bounds=bounds, options={"time_limit": SECONDS})
    if told.x is not None:
        return [int(i) for i in np.flatnonzero(told.x > 0.5)], bool(told.status == 0)
    chosen: list[int] = []
    left = np.ones(len(reach), bool)
    while left.any():  # the time was over before anything was found: the one that adds most, again and again
        chosen.append(int(reach[left].sum(0).argmax()))
        left &= ~reach[:, chosen[-1]]
    return sorted(chosen), False
