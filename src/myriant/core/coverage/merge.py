"""Merging coverage over cells: a line is covered when some cell covers it, and counted once."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from myriant.core.coverage.model import MOST_HITS, Arms, FileCoverage, Function, Numbers


def merge_files(parts: Iterable[Mapping[str, FileCoverage]]) -> dict[str, FileCoverage]:
    """The union of several coverages, file by file."""
    by_path: dict[str, list[FileCoverage]] = {}
    for part in parts:
        for path, file in part.items():
            by_path.setdefault(path, []).append(file)
    plain = {path: files for path, files in by_path.items() if len(files) > 1 and _are_alike(files)}
    merged = _merged_alike(plain)
    return {path: merged[path] if path in merged else merge(files) for path, files in by_path.items()}


def _are_alike(files: Sequence[FileCoverage]) -> bool:
    """Whether they have the very same lines, and neither branches nor functions: their hits can just be added."""
    first = files[0].lines
    size, lines = len(first), first.tobytes()
    return all(
        len(f.lines) == size and not len(f.branch_lines) and not f.functions and f.lines.tobytes() == lines
        for f in files
    )


def _merged_alike(by_path: Mapping[str, Sequence[FileCoverage]]) -> dict[str, FileCoverage]:
    """Files whose lines are the same in all their reports, added as one long vector for each number of reports."""
    found: dict[str, FileCoverage] = {}
    by_count: dict[int, list[str]] = {}
    for path, files in by_path.items():
        by_count.setdefault(len(files), []).append(path)
    for count, paths in by_count.items():
        total = np.concatenate([by_path[p][0].hits for p in paths]).astype(np.int64)
        for i in range(1, count):
            total += np.concatenate([by_path[p][i].hits for p in paths])
        hits, at = np.minimum(total, MOST_HITS).astype(np.int32), 0
        for path in paths:
            one = by_path[path][0]
            size = len(one.lines)
            found[path] = FileCoverage(
                one.lines, hits[at : at + size], one.branch_lines, one.branches_valid, one.branches_covered
            )
            at += size
    return found


def merge(files: list[FileCoverage]) -> FileCoverage:
    """The union of one file's coverages: hits add up, a line counts as coverable if it is in some of them.

    Branches: where each report says which branches of a line were not taken, those stay that none of them took. A
    line of which only counts are known has the largest of them, a lower bound of the true union. Functions are the
    same by line and name.
    """
    if len(files) == 1:
        return files[0]
    lines, hits = _by_line([(f.lines, f.hits) for f in files], np.add)
    branch_lines, valid = _by_line([(f.branch_lines, f.branches_valid) for f in files], np.maximum)
    _, covered = _by_line([(f.branch_lines, f.branches_covered) for f in files], np.maximum)
    arms = Arms()
    if any(len(f.arms.lines) for f in files):
        covered, arms = _by_arm(files, branch_lines, valid, covered)
    called: dict[tuple[int, str], int] = {}
    for function in (function for f in files for function in f.functions):
        key = (function.line, function.name)
        called[key] = min(called.get(key, 0) + function.hits, MOST_HITS)
    functions = tuple(Function(line, name, count) for (line, name), count in sorted(called.items()))
    return FileCoverage(lines, hits, branch_lines, valid, covered, arms, functions)


def _by_arm(files: list[FileCoverage], lines: Numbers, valid: Numbers, most: Numbers) -> tuple[Numbers, Arms]:
    """Covered branches by line, and the branches that are known, where each of the files that has a line says which of
    its branches were not taken, and they agree how many there are; `most` elsewhere."""
    reports = np.zeros(len(lines), np.int64)  # how many have the line
    exact = np.ones(len(lines), bool)
    for f in files:
        at = np.searchsorted(lines, f.branch_lines)
        reports[at] += 1
        left = np.bincount(np.searchsorted(lines, f.arms.lines[f.arms.taken == 0]), minlength=len(lines))[at]
        exact[at] &= (f.branches_valid == valid[at]) & (left == f.branches_valid - f.branches_covered)
    keys = np.concatenate([(f.arms.lines.astype(np.int64) << 32) | f.arms.ids for f in files])
    missed = np.concatenate([f.arms.taken == 0 for f in files])
    distinct, inverse = np.unique(keys, return_inverse=True)
    at = np.searchsorted(lines, distinct >> 32)
    exact &= np.bincount(at, minlength=len(lines)) <= valid
    never = np.bincount(inverse, weights=missed, minlength=len(distinct)).astype(np.int64) == reports[at]
    left = np.bincount(at, weights=never, minlength=len(lines)).astype(np.int64)
    kept = exact[at]
    arms = Arms(
        (distinct[kept] >> 32).astype(np.int32),
        (distinct[kept] & 0xFFFFFFFF).astype(np.int32),
        (~never[kept]).astype(np.int32),
    )
    return np.where(exact, valid - left, most).astype(np.int32), arms


def _by_line(parts: list[tuple[Numbers, Numbers]], how: np.ufunc) -> tuple[Numbers, Numbers]:
    lines = np.concatenate([p[0] for p in parts])
    values = np.concatenate([p[1] for p in parts]).astype(np.int64)
    distinct, inverse = np.unique(lines, return_inverse=True)
    merged = np.zeros(len(distinct), np.int64)
    how.at(merged, inverse, values)
    return distinct.astype(np.int32), np.minimum(merged, MOST_HITS).astype(np.int32)
