"""What a person looks for in coverage: of the change, lost elsewhere, and by cell."""

from __future__ import annotations

import bisect
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from pathlib import PurePosixPath

import numpy as np

from myriant.core.coverage.model import FileCoverage
from myriant.core.diagnosis.discovery import looks_like_test
from myriant.core.diagnosis.explain import explain
from myriant.core.statements import may_be_statement

Hunk = tuple[int, int, int, int]  # of a difference without context: first old line, how many, first new line, how many


@dataclass(frozen=True, slots=True)
class ChangedFile:
    """A changed file: of its changed lines that can be covered how many are, and which are not, or in part.

    `unknown`: no report names it although reports know its kind, so all of its changed lines count as not covered.
    """

    path: str
    covered: int
    coverable: int
    uncovered: list[int]
    partly: list[int]
    unknown: bool


def with_text(path: str, text: str, lines: Collection[int]) -> set[int]:
    """Those of these lines that may hold a statement: neither blank, nor brackets alone, nor a comment to its end."""
    rows = text.split("\n")  # as git counts them
    return {n for n in lines if n <= len(rows) and may_be_statement(path, rows[n - 1])}


Texts = Callable[[Collection[str]], Mapping[str, str]]


def changed_files(
    files: Mapping[str, FileCoverage],
    changed: Mapping[str, Collection[int]],
    present: Collection[str],
    texts_of: Texts,
) -> list[ChangedFile] | None:
    """Changed files with something coverable, the most uncovered first; None when reports name no file `present`.

    `texts_of` reads files that no report names: their lines with text are those that could be covered. Of a file that
    it does not give every line counts.
    """
    known = [path for path in files if path in present]
    if not known:
        return None
    endings = {PurePosixPath(path).suffix for path in known} - {""}
    unknown = {
        path
        for path, lines in changed.items()
        if lines and path not in files and path in present and PurePosixPath(path).suffix in endings
        if not looks_like_test(path)
    }
    texts = texts_of(sorted(unknown)) if unknown else {}
    found = []
    for path, lines in changed.items():
        file = files.get(path)
        if file is not None:
            touched = np.isin(file.lines, list(lines))
            bare = file.lines[touched & (file.hits == 0)].tolist()
            if touched.any():
                partly = [n for n in _partly(file) if n in lines]
                count = int(touched.sum())
                found.append(ChangedFile(path, count - len(bare), count, bare, partly, unknown=False))
        elif path in unknown:
            left = sorted(with_text(path, texts[path], lines) if path in texts else lines)
            found += [ChangedFile(path, 0, len(left), left, [], unknown=True)] if left else []
    return sorted(found, key=lambda f: (-len(f.uncovered), f.path))


def changed_share_of(
    files: Mapping[str, FileCoverage],
    changed: Mapping[str, Collection[int]],
    present: Collection[str],
    texts_of: Texts,
) -> tuple[int, int] | None:
    """Covered and coverable lines among those changed; None when the reports name no file that is `present`."""
    found = changed_files(files, changed, present, texts_of)
    return None if found is None else (sum(f.covered for f in found), sum(f.coverable for f in found))


def _partly(file: FileCoverage) -> list[int]:
    """Lines that were run and not in every direction."""
    reached = set(file.lines[file.hits > 0].tolist())
    short = file.branch_lines[file.branches_covered < file.branches_valid].tolist()
    return [int(n) for n in short if n in reached]


class Moved:
    """Where lines of a file went: old numbers to new ones, by the hunks between."""

    def __init__(self, hunks: Sequence[Hunk]) -> None:
        self._starts, self._gone, self._shift = [], [], []
        shift = 0
        for old, removed, new, added in sorted(hunks):
            first = old if removed else old + 1  # without a removed line, the old number is the one before
            self._starts.append(first)
            self._gone.append(removed)
            shift = new + added - (old + removed) if removed else new + added - (old + 1)
            if not added:
                shift += 1  # likewise the new number
            self._shift.append(shift)

    def to(self, line: int) -> int | None:
        """The new number of an old line, None for one that was removed or changed."""
        at = bisect.bisect_right(self._starts, line) - 1
        if at < 0:
            return line
        if line < self._starts[at] + self._gone[at]:
            return None
        return line + self._shift[at]


def lost_lines(before: FileCoverage, after: FileCoverage | None, hunks: Sequence[Hunk]) -> list[int]:
    """Lines that did not change, were covered before and are no more, by their new numbers."""
    moved = Moved(hunks)
    covered = {to for n in before.lines[before.hits > 0].tolist() if (to := moved.to(int(n))) is not None}
    if after is None:
        return sorted(covered)
    return sorted(covered & {int(n) for n in after.lines[after.hits == 0].tolist()})


def lost_of(
    before: Mapping[str, FileCoverage],
    now: Mapping[str, FileCoverage],
    hunks: Mapping[str, Sequence[Hunk]],
    present: Collection[str],
) -> dict[str, list[int]]:
    """Lost lines by file, of files that are still there: also of one that no report names any more."""
    found = {p: lost_lines(file, now.get(p), hunks.get(p, ())) for p, file in before.items() if p in present}
    return {path: lines for path, lines in found.items() if lines}


@dataclass(frozen=True, slots=True)
class Reach:
    """Which cells reach some lines: their names, and in words what they have in common; empty when nothing tells."""

    cells: list[str]
    where: str


def reached_by(
    path: str, cells: Sequence[tuple[str, Mapping[str, str]]], of_cells: Sequence[Mapping[str, FileCoverage]]
) -> tuple[dict[int, int], list[Reach]]:
    """By line that only some cells reach, the index of who does; lines that all or none reach are left out.

    `cells` are names and values of the cells that gave coverage of this file's kind, `of_cells` their coverage.
    """
    masks: dict[int, int] = {}
    for i, files in enumerate(of_cells):
        file = files.get(path)
        if file is not None:
            for n in file.lines[file.hits > 0].tolist():
                masks[int(n)] = masks.get(int(n), 0) | 1 << i
    every = (1 << len(cells)) - 1
    order: dict[int, int] = {}
    lines = {}
    for line, mask in sorted(masks.items()):
        if mask != every:
            lines[line] = order.setdefault(mask, len(order))
    reaches = []
    for mask in order:
        affected = [bool(mask >> i & 1) for i in range(len(cells))]
        found = explain([values for _, values in cells], affected)
        where = found.selector or "" if found.exact else ""
        reaches.append(Reach([name for (name, _), is_in in zip(cells, affected, strict=True) if is_in], where))
    return lines, reaches
