"""Likely changes: commits scored by what they touched against the stack, the test and its surroundings."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Sequence
from dataclasses import dataclass

from myriant.core.diagnosis.frames import Frame

STACK, TEST, NAMED, NEIGHBOUR, FOLDER, DEPENDENCY = 4.0, 2.5, 2.0, 1.0, 0.5, 1.5
_DEPENDENCIES = re.compile(
    r"(?:^|/)(?:requirements[^/]*\.(?:txt|in)|pyproject\.toml|setup\.(?:py|cfg)|[^/]*lock[^/]*\.(?:json|yaml|toml)|[^/]+\.lock|"
    r"package\.json|go\.(?:mod|sum)|Cargo\.toml|pom\.xml|[^/]+\.gradle(?:\.kts)?|Gemfile|[^/]+\.rockspec|composer\.json|"
    r"myriant\.toml|Makefile|CMakeLists\.txt)$"
)
_TEST_WORDS = re.compile(r"^(?:test|spec)s?_|_(?:test|spec)s?$|(?:test|tests|spec|it)$")


@dataclass(frozen=True, slots=True)
class Touched:
    """A commit by what it changed: paths, and where known the changed lines."""

    commit: str
    files: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Suspect:
    """A commit with its score (no unit, comparable within one finding) and the reasons in words, the weightiest
    first.
    """

    commit: str
    score: float
    because: tuple[str, ...]


def rank(
    commits: Sequence[Touched], frames: Sequence[Frame], test_files: Sequence[str], neighbours: Sequence[str] = ()
) -> list[Suspect]:
    """Commits, most likely first; equal ones newest first (as given). `neighbours` are files of other tests of the
    finding.

    A file of the stack counts the more, the nearer it is to where the failure was raised.
    """
    found = [_judged(c, frames, test_files, neighbours) for c in commits]
    return sorted(found, key=lambda s: -s.score)


def _judged(c: Touched, frames: Sequence[Frame], test_files: Sequence[str], neighbours: Sequence[str]) -> Suspect:
    told: list[tuple[float, str]] = []
    files = set(c.files)
    by_name: dict[str, set[str]] = {}
    for path in files:
        by_name.setdefault(posixpath.basename(path), set()).add(path)
    own = [f for f in frames if f.own]
    for depth, frame in enumerate(f for f in own if not f.of_test):
        changed = frame.file if frame.file in files else _by_name(frame.file, by_name)
        if changed:
            told.append((STACK / (1 + depth), f"changed {changed}, which the stack names"))
    for path in test_files:
        changed = path if path in files else _by_name(path, by_name)
        if changed and not any(changed in why for _, why in told):
            told.append((TEST, f"changed the test's file {changed}"))
    for path in test_files:
        named = sorted(p for p in files if _is_named_after(path, p))
        told += [(NAMED, f"changed {p}, which {posixpath.basename(path)} is named after") for p in named]
    if not told:
        near = files & set(neighbours)
        if near:
            told.append((NEIGHBOUR, f"changed {min(near)}, where other tests of this finding are"))
        folders = {posixpath.dirname(f.file) for f in own} - {""}
        close = sorted(p for p in files if posixpath.dirname(p) in folders)
        if close:
            told.append((FOLDER, f"changed {close[0]}, beside a file of the stack"))
    dependency = sorted(p for p in files if _DEPENDENCIES.search(p))
    if dependency:
        told.append((DEPENDENCY, f"changed {dependency[0]}: what is installed or how it is run"))
    told.sort(reverse=True)
    return Suspect(
        c.commit, round(sum(score for score, _ in told), 3), tuple(dict.fromkeys(why for _, why in told))[:4]
    )


def _is_named_after(test: str, path: str) -> bool:
    """Whether a test file bears the name of another: test_tide.py and tide.py."""
    name = posixpath.basename(test).partition(".")[0].lower()
    stem = _TEST_WORDS.sub("", name)
    return 2 < len(stem) < len(name) and path != test and posixpath.basename(path).partition(".")[0].lower() == stem


def _by_name(path: str, by_name: dict[str, set[str]]) -> str:
    """The one changed file of this name, for stacks that tell no folders."""
    if "/" in path:
        ending = "/" + path
        return next((p for p in by_name.get(posixpath.basename(path), ()) if p.endswith(ending)), "")
    return next(iter(by_name.get(path, ())), "")
