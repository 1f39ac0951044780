"""Likely changes: commits scored by what they touched against the stack, the test and its surroundings."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field

from myriant.core.diagnosis.frames import Frame
from myriant.core.diagnosis.naming import named_in

STACK, SAID, TEST, NAMED, TOGETHER, NEIGHBOUR, FOLDER, DEPENDENCY = 4.0, 3.0, 2.5, 2.0, 1.5, 1.0, 0.5, 1.5
NOT_RUN = 0.3  # what is left of the score of a commit of whose measured lines none ran in the cell
IDLE = 0.1  # of one that changed nothing but comments: they seldom break a test
LEAST_TOGETHER = 3  # commits
_DEPENDENCIES = re.compile(
    r"(?:^|/)(?:requirements[^/]*\.(?:txt|in)|pyproject\.toml|setup\.(?:py|cfg)|[^/]*lock[^/]*\.(?:json|yaml|toml)|[^/]+\.lock|"
    r"package\.json|go\.(?:mod|sum)|Cargo\.toml|pom\.xml|[^/]+\.gradle(?:\.kts)?|Gemfile|[^/]+\.rockspec|composer\.json|"
    r"myriant\.toml|Makefile|CMakeLists\.txt)$"
)
_TEST_WORDS = re.compile(r"^(?:test|spec)s?_|_(?:test|spec)s?$|(?:test|tests|spec|it)$")


@dataclass(frozen=True, slots=True)
class Touched:
    """A commit by what it changed. `functions` by path; `ran` says of paths whether a line that the commit wrote ran in
    the failing cell, where coverage tells it. Of `idle` files only comments and blank lines differ.
    """

    commit: str
    files: tuple[str, ...]
    functions: Mapping[str, Collection[str]] = field(default_factory=dict)
    ran: Mapping[str, bool] = field(default_factory=dict)
    idle: Collection[str] = ()


@dataclass(frozen=True, slots=True)
class Failure:
    """What is known of a failure: its stack, the test's files, its whole text, files of other tests of the finding, and
    with which paths the test's files changed in the past: in how many of how many commits.
    """

    frames: Sequence[Frame] = ()
    test_files: Sequence[str] = ()
    text: str = ""
    neighbours: Sequence[str] = ()
    together: Mapping[str, tuple[int, int]] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Suspect:
    """A commit with its score (no unit, comparable within one finding) and the reasons in words, the weightiest
    first.
    """

    commit: str
    score: float
    because: tuple[str, ...]


def rank(commits: Sequence[Touched], failure: Failure) -> list[Suspect]:
    """Commits, most likely first; equal ones newest first (as given).

    A file of the stack counts the more, the nearer it is to where the failure was raised.
    """
    return sorted((_judged(c, failure) for c in commits), key=lambda s: -s.score)


def _judged(c: Touched, failure: Failure) -> Suspect:
    files = set(c.files)
    by_name: dict[str, set[str]] = {}
    for path in files:
        by_name.setdefault(posixpath.basename(path), set()).add(path)
    told = [*_of_stack(failure, files, by_name), *_said(c, failure)]
    told += _of_test(failure, files, by_name, {why for _, why in told})
    told += [
        (TOGETHER * times / of, f"changed {path}, as {times} of {of} commits to the test's file did")
        for path, (times, of) in sorted(failure.together.items())
        if path in files and times >= LEAST_TOGETHER and 2 * times >= of and not any(path in why for _, why in told)
    ]
    if not told:
        told += _near(failure, files)
    dependency = sorted(p for p in files if _DEPENDENCIES.search(p))
    if dependency:
        told.append((DEPENDENCY, f"changed {dependency[0]}: what is installed or how it is run"))
    told.sort(reverse=True)
    score = sum(score for score, _ in told)
    because = list(dict.fromkeys(why for _, why in told))[:4]
    if told and not dependency and set(c.ran) >= files and not any(c.ran.values()):
        score *= NOT_RUN
        because.append("but no line that it wrote ran in this cell")
    if told and set(c.idle) >= files:
        score *= IDLE
        because.append("but only comments and blank lines")
    return Suspect(c.commit, round(score, 3), tuple(because))


_Told = list[tuple[float, str]]


def _of_stack(failure: Failure, files: set[str], by_name: Mapping[str, set[str]]) -> _Told:
    told: _Told = []
    for depth, frame in enumerate(f for f in failure.frames if f.own and not f.of_test):
        changed = frame.file if frame.file in files else _by_name(frame.file, by_name)
        if changed:
            told.append((STACK / (1 + depth), f"changed {changed}, which the stack names"))
    return told


def _said(c: Touched, failure: Failure) -> _Told:
    """Functions that it changed and the failure names, and files that the message names."""
    told: _Told = []
    for path, names in sorted(c.functions.items()):
        if named := sorted(named_in(failure.text, names)):
            told.append((SAID, f"changed {named[0]} in {path}, which the failure names"))
    stack = {f.file for f in failure.frames}
    told += [
        (SAID, f"changed {path}, which the message names")
        for path in sorted(c.files)
        if path not in stack and _is_written(path, failure.text)
    ]
    return told


def _is_written(path: str, text: str) -> bool:
    """Whether a text names a file: by its path, or by its name where that says something."""
    name = posixpath.basename(path)
    said = path if "/" in path else name
    if said in text and re.search(rf"(?<![\w./-]){re.escape(said)}(?![\w/-])", text):
        return True
    alone = rf"(?<![\w/-]){re.escape(name)}(?![\w/-])"  # behind a folder it is another file of that name
    return len(name) > 6 and "." in name[1:] and bool(re.search(alone, text))


def _of_test(failure: Failure, files: set[str], by_name: Mapping[str, set[str]], before: set[str]) -> _Told:
    told: _Told = []
    for path in failure.test_files:
        changed = path if path in files else _by_name(path, by_name)
        if changed and not any(f"changed {changed}" in why for why in before):
            told.append((TEST, f"changed the test's file {changed}"))
    for path in failure.test_files:
        named = sorted(p for p in files if is_named_after(path, p))
        told += [(NAMED, f"changed {p}, which {posixpath.basename(path)} is named after") for p in named]
    return told


def _near(failure: Failure, files: set[str]) -> _Told:
    told: _Told = []
    near = files & set(failure.neighbours)
    if near:
        told.append((NEIGHBOUR, f"changed {min(near)}, where other tests of this finding are"))
    folders = {posixpath.dirname(f.file) for f in failure.frames if f.own} - {""}
    close = sorted(p for p in files if posixpath.dirname(p) in folders)
    if close:
        told.append((FOLDER, f"changed {close[0]}, beside a file of the stack"))
    return told


def is_named_after(test: str, path: str) -> bool:
    """Whether a test file bears the name of another: test_tide.py and tide.py."""
    name = posixpath.basename(test).partition(".")[0].lower()
    stem = _TEST_WORDS.sub("", name)
    return 2 < len(stem) < len(name) and path != test and posixpath.basename(path).partition(".")[0].lower() == stem


def _by_name(path: str, by_name: Mapping[str, set[str]]) -> str:
    """The one changed file of this name, for stacks that tell no folders."""
    if "/" in path:
        ending = "/" + path
        return next((p for p in by_name.get(posixpath.basename(path), ()) if p.endswith(ending)), "")
    return next(iter(by_name.get(path, ())), "")
