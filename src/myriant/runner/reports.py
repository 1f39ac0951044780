"""Finding the reports that steps wrote: regular files inside the workspace, written during this attempt."""

from __future__ import annotations

import hashlib
import os
import shutil
import stat
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from myriant.core.plan.globs import matches

MOST_FILES = 20_000  # that one pattern may match
_MOST_LOOKED_AT = 1_000_000


class TooMany(Exception):
    """More files match than are taken: none of them is."""


@dataclass(frozen=True, slots=True)
class Found:
    path: str  # relative to the workspace
    copy: Path
    digest: str

    @staticmethod
    def of(path: str, copy: Path) -> Found:
        """A file as it lies there now."""
        with copy.open("rb") as source:
            return Found(path, copy, hashlib.file_digest(source, "sha256").hexdigest())


def time_mark(folder: Path) -> int:
    """A change time (ns) that is later than that of every file there now: what is older was not written by a step."""
    mark = folder / "mark"
    mark.touch()
    before = mark.stat().st_ctime_ns
    while (now := mark.stat().st_ctime_ns) <= before:
        mark.chmod(0o600)
    return now


def find_reports(workspace: Path, glob: str, since: int, copies: Path) -> tuple[list[Found], list[str]]:
    """Own copies of the files that match, and the paths that match but were not written since the mark.

    Raises TooMany: what is left out could hold the one failure.
    """
    fresh: list[tuple[Path, str]] = []
    stale: list[str] = []
    for path in files_below(workspace):
        relative = str(path.relative_to(workspace))
        if not matches(glob, relative):
            continue
        status = path.lstat()
        if status.st_ctime_ns < since:
            stale.append(relative)
        else:
            fresh.append((path, relative))
    if len(fresh) > MOST_FILES:
        raise TooMany(f"{len(fresh):,} files match {glob}, more than {MOST_FILES:,}")
    return [_copied(path, relative, copies) for path, relative in fresh], stale


def files_below(top: Path) -> Iterator[Path]:
    """Regular files below a folder, but for the repository's own."""
    looked = 0
    for folder, folders, names in os.walk(top):
        folders[:] = sorted(f for f in folders if not (folder == str(top) and f == ".git"))
        for name in sorted(names):
            looked += 1
            path = Path(folder) / name
            if stat.S_ISREG(path.lstat().st_mode):
                yield path
        if looked > _MOST_LOOKED_AT:
            return


def _copied(path: Path, relative: str, copies: Path) -> Found:
    copy = copies / os.urandom(8).hex()
    descriptor = os.open(path, os.O_RDONLY | os.O_NOFOLLOW)
    with os.fdopen(descriptor, "rb") as source, copy.open("wb") as target:
        shutil.copyfileobj(source, target, 1 << 20)
    return Found.of(relative, copy)


def links_matching(workspace: Path, glob: str) -> list[str]:
    """Links, sockets and devices that a glob names: they are never kept."""
    odd = []
    for folder, folders, names in os.walk(workspace):
        folders[:] = sorted(f for f in folders if not (folder == str(workspace) and f == ".git"))
        for name in sorted((*names, *folders)):
            path = Path(folder) / name
            mode = path.lstat().st_mode
            if not stat.S_ISREG(mode) and not stat.S_ISDIR(mode) and matches(glob, str(path.relative_to(workspace))):
                odd.append(str(path.relative_to(workspace)))
                if len(odd) >= 20:
                    return odd
    return odd
