"""What a job watches, and what changed as the job would read it.

A path stands for what is read there: a submodule for all files below it, a link for what it leads to, a file for its
bytes as they are checked out (gitattributes).
"""

from __future__ import annotations

import posixpath
import re
import shlex
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass

from myriant.core.plan.globs import matches, may_match_below
from myriant.core.plan.model import Job

ATTRIBUTES = ".gitattributes"
_UNREAD = frozenset({"diff", "merge", "whitespace", "export-ignore", "export-subst", "delta", "encoding"})
_MOST = 100_000  # paths
_ROUNDS = 5  # links that lead to links
_PLACEHOLDER = re.compile(r"\$?\{[^{}]*\}|\$\w+")
_WORDS = re.compile(r"[\s;&|<>()'\"=]+")


@dataclass(frozen=True, slots=True)
class Tree:
    """A commit's files as far as they stand for others; `attributes` by path, of those files that changed."""

    links: Mapping[str, str]
    attributes: Mapping[str, str]
    files: Sequence[str] = ()


def as_read(changed: Iterable[str], submodules: Iterable[str], before: Tree, after: Tree) -> tuple[str, ...]:
    """The paths at which a job reads something else: those that changed, and those that stand for one that did.

    A submodule is a path that ends with a slash: everything below it may be another.
    """
    folders = set(submodules)
    found = {f"{p}/" if p in folders else p for p in changed}
    for path in [p for p in found if posixpath.basename(p) == ATTRIBUTES]:
        patterns = _changed_patterns(before.attributes.get(path, ""), after.attributes.get(path, ""))
        folder = path.removesuffix(ATTRIBUTES)
        inside = [f for f in after.files if f.startswith(folder)] if patterns else []
        found |= {f for f in inside if any(_is_named(p, f.removeprefix(folder)) for p in patterns)}
    links = {
        (path, target)
        for tree in (before, after)
        for path, link in tree.links.items()
        if (target := posixpath.normpath(posixpath.join(posixpath.dirname(path), link)))
        and not target.startswith("../")
    }
    new = found
    for _ in range(_ROUNDS):
        new = {other for path, target in links for p in new for other in _through(path, target, p)} - found
        found |= new
        if not new or len(found) > _MOST:
            break
    return tuple(sorted(found))


def _through(path: str, target: str, changed: str) -> list[str]:
    """Where a link shows something that changed."""
    if changed == target:
        return [path]
    if target == "." or changed.startswith(f"{target}/"):
        return [path + "/" + changed.removeprefix("" if target == "." else f"{target}/")]
    return [path, f"{path}/"] if changed.endswith("/") and target.startswith(changed) else []


def _changed_patterns(before: str, after: str) -> list[str]:
    """Patterns of lines that stand in one of two texts only and may change what is checked out."""
    lines = set(before.splitlines()) ^ set(after.splitlines())
    found = []
    for line in lines:
        words = line.split()
        if not words or words[0].startswith("#"):
            continue
        if words[0].startswith(("[attr]", '"')):
            return ["**"]
        names = {re.split("=", w.lstrip("-!"))[0] for w in words[1:]}
        if any(n not in _UNREAD and not n.startswith("linguist-") for n in names):
            found.append(words[0])
    return found


def _is_named(pattern: str, path: str) -> bool:
    """Whether a pattern of gitattributes, which stands in the folder that the path is relative to, names a file."""
    return matches(pattern, path)


def named_by(job: Job) -> tuple[str, ...]:
    """Globs of the files that a job's part of the plan names: its settings, what its caches depend on, its scripts."""
    found = [f for c in job.cache for f in c.renew_on]
    if job.settings is not None:
        found += [f for f in (job.settings.file, job.settings.example) if f]
    for step in job.steps:
        folder = step.folder or job.folder or ""
        found += (posixpath.normpath(posixpath.join(folder, word)) for word in _words(step.command))
    globs = (_PLACEHOLDER.sub("*", f) for f in found)
    return tuple(dict.fromkeys(f"/{g.removeprefix('/')}" for g in globs if g.strip("*/.") and not g.startswith("..")))


def _words(command: str | Sequence[str]) -> list[str]:
    """Words of a command that may be paths."""
    if not isinstance(command, str):
        return [w for word in command for w in _words(word)] if command else []
    try:
        words = shlex.split(command, comments=True)
    except ValueError:
        words = []
    pieces = {*words, *_WORDS.split(command)}
    return sorted(w for w in pieces if w and not w.startswith(("-", "/", "~", "*", "$")) and ("/" in w or "." in w))


_VERSION_FILES = ("pyproject.toml", "setup.py", "setup.cfg")
_VERSION_TOOL = re.compile(
    r"setuptools[-_]scm|hatch-vcs|versioneer|poetry-dynamic-versioning|setuptools-git-versioning|versioningit|dunamai"
    r"|pdm-backend.*scm|\bpbr\b"
)


def version_from_git(read: Callable[[str], str]) -> str:
    """What reads a Python package's version from git's tags, as its build files name it; empty for none."""
    found = (_VERSION_TOOL.search(read(path)) for path in _VERSION_FILES)
    return next((match[0] for match in found if match is not None), "")


def touches(globs: Sequence[str], path: str) -> bool:
    """Whether one of the globs names a path, or may name something below a path that ends with a slash."""
    if path.endswith("/"):
        return any(matches(g, path[:-1]) or may_match_below(g, path) for g in globs)
    return any(matches(g, path) for g in globs)


def covers(globs: Sequence[str], path: str) -> bool:
    """Whether the globs name a path, and everything below one that ends with a slash."""
    if path.endswith("/"):
        return any(g.rstrip("/").endswith("**") and matches(g, f"{path}x/x") for g in globs)
    return any(matches(g, path) for g in globs)
