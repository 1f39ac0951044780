"""Merging coverage over cells: a line is covered when some cell covers it, and counted once."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import numpy as np

from myriant.core.coverage.model import MOST_HITS, FileCoverage, Numbers


def merge_files(parts: Iterable[Mapping[str, FileCoverage]]) -> dict[str, FileCoverage]:
    """The union of several coverages, file by file."""
    by_path: dict[str, list[FileCoverage]] = {}
    for part in parts:
        for path, file in part.items():
            by_path.setdefault(path, []).append(file)
    return {path: merge(files) for path, files in by_path.items()}


def merge(files: list[FileCoverage]) -> FileCoverage:
    """The union of one file's coverages: hits add up, a line counts as coverable if it is in some of them.

    Branches: reports state counts a line, not which branches, so the largest covered count of a line is taken,
    a lower bound of the true union.
    """
    if len(files) == 1:
        return files[0]
    lines, hits = _by_line([(f.lines, f.hits) for f in files], np.add)
    branch_lines, valid = _by_line([(f.branch_lines, f.branches_valid) for f in files], np.maximum)
    _, covered = _by_line([(f.branch_lines, f.branches_covered) for f in files], np.maximum)
    return FileCoverage(lines, hits, branch_lines, valid, covered)


def _by_line(parts: list[tuple[Numbers, Numbers]], how: np.ufunc) -> tuple[Numbers, Numbers]:
    lines = np.concatenate([p[0] for p in parts])
    values = np.concatenate([p[1] for p in parts]).astype(np.int64)
    distinct, inverse = np.unique(lines, return_inverse=True)
    merged = np.zeros(len(distinct), np.int64)
    how.at(merged, inverse, values)
    return distinct.astype(np.int32), np.minimum(merged, MOST_HITS).astype(np.int32)
