"""The difference between two commits, as a reader gets it: files, and their lines as far as they are not too many."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from myriant.repos import answers
from myriant.repos.git import git

MOST_FILES = 2000
MOST_LINES = 20_000  # whose text is given, over all files
MOST_OF_ONE = 4_000
_WIDEST = 2_000  # characters of a line
_HUNK = re.compile(r"@@ -(\d+)(?:,(\d+))? \+(\d+)(?:,(\d+))? @@ ?(.*)")


@dataclass(frozen=True, slots=True)
class Line:
    """`before` and `now` are its numbers; one of them is None where it was added or removed."""

    before: int | None
    now: int | None
    text: str


@dataclass(frozen=True, slots=True)
class Part:
    """Lines that stand together, with what encloses them as far as git knows it."""

    within: str
    lines: list[Line]


@dataclass(slots=True)
class FileChange:
    path: str
    before: str | None  # its former path where that was another
    added: int
    removed: int
    binary: bool
    parts: list[Part]
    cut: bool  # its lines are not given: too many


def difference(path: Path, before: str, after: str) -> tuple[list[FileChange], int]:
    """Changed files in the order of their paths, and how many more there are. Raises GitError."""
    told = git(path, "diff", "--numstat", "-z", "--find-renames", "--no-ext-diff", before, after, "--")
    files = _counted(answers.text(told).split("\0"))
    listed = sorted(files, key=lambda f: f.path)[:MOST_FILES]
    left = MOST_LINES
    wanted: list[FileChange] = []
    for file in listed:
        size = file.added + file.removed
        if file.binary or size == 0:
            continue
        file.cut = size > min(left, MOST_OF_ONE)
        if not file.cut:
            left -= size
            wanted.append(file)
    for at in range(0, len(wanted), 200):  # a command's arguments have a bound
        _fill(path, before, after, wanted[at : at + 200])
    return listed, len(files) - len(listed)


def _counted(parts: Sequence[str]) -> list[FileChange]:
    """What `git diff --numstat -z` lists."""
    found, i = [], 0
    while i < len(parts) and parts[i]:
        added, removed, name = parts[i].split("\t", 2)
        former = None
        if not name:
            former, name, i = parts[i + 1], parts[i + 2], i + 2
        counts = [0 if n == "-" else int(n) for n in (added, removed)]
        found.append(
            FileChange(name, former if former != name else None, counts[0], counts[1], added == "-", [], False)
        )
        i += 1
    return found


def _fill(path: Path, before: str, after: str, files: Sequence[FileChange]) -> None:
    named = [n for f in files for n in (f.path, f.before) if n is not None]
    shown = git(
        path,
        "--literal-pathspecs",
        "diff",
        "--no-color",
        "--no-ext-diff",
        "--find-renames",
        "--unified=3",
        "--src-prefix=a/",
        "--dst-prefix=b/",
        before,
        after,
        "--",
        *named,
    )
    order = iter(_by_file(answers.text(shown)))
    by_path = {f.path: f for f in files}
    for name, parts in order:
        if name in by_path:
            by_path[name].parts = parts


def _by_file(shown: str) -> list[tuple[str, list[Part]]]:
    """Each file's parts by its path now, by its former path where it is gone."""
    found: list[tuple[str, list[Part]]] = []
    old = ""
    lines = iter(shown.split("\n"))
    for line in lines:
        if line.startswith("--- "):
            old = answers.header_path(line[4:], "a/")
        elif line.startswith("+++ "):
            found.append((answers.header_path(line[4:], "b/") or old, []))
        elif found and (hunk := _HUNK.match(line)):
            found[-1][1].append(_part(lines, hunk))
    return found


def _part(lines: Iterator[str], hunk: re.Match[str]) -> Part:
    before, now = int(hunk[1]), int(hunk[3])
    left, right = int(hunk[2] or 1), int(hunk[4] or 1)
    part = Part(hunk[5][:_WIDEST], [])
    while left or right:
        line = next(lines, None)
        if line is None:
            break
        sign, text = line[:1], line[1:][:_WIDEST].rstrip("\r")
        if sign == "+":
            part.lines.append(Line(None, now, text))
            now, right = now + 1, right - 1
        elif sign == "-":
            part.lines.append(Line(before, None, text))
            before, left = before + 1, left - 1
        elif sign == " " or not sign:
            part.lines.append(Line(before, now, text))
            before, now, left, right = before + 1, now + 1, left - 1, right - 1
    return part
