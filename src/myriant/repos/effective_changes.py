"""What differs between two commits as a job reads them: with what links, submodules and attributes stand for."""

from __future__ import annotations

from collections.abc import Sequence

from myriant.core.plan.watched_paths import ATTRIBUTES, Tree, as_read
from myriant.repos import answers
from myriant.repos.git import GitError, git
from myriant.repos.mirror import Mirror

_MOST_LINKS = 2000


def changed_as_read(mirror: Mirror, before: str, after: str) -> tuple[str, ...] | None:
    """Paths at which two commits are read differently, None when one of them is not there."""
    try:
        listed = git(mirror.path, "diff", "--raw", "-z", "--no-renames", before, after, "--")
        rows = answers.text(listed).split("\0")
        modes = {path: about.split(" ", 2)[:2] for about, path in zip(rows[::2], rows[1::2], strict=False)}
        attributes = [path for path in modes if path.rpartition("/")[2] == ATTRIBUTES]
        submodules = [path for path, both in modes.items() if any(m.endswith("160000") for m in both)]
        return as_read(modes, submodules, _tree(mirror, before, attributes), _tree(mirror, after, attributes))
    except GitError:
        return None


def _tree(mirror: Mirror, commit: str, attributes: Sequence[str]) -> Tree:
    listed = answers.records(git(mirror.path, "ls-tree", "-r", "-z", commit))
    rows = [row.split("\t", 1) for row in listed]
    links = [path for about, path in rows if about.startswith("120000")][:_MOST_LINKS]
    return Tree(_texts(mirror, commit, links), _texts(mirror, commit, attributes), [path for _, path in rows])


def _texts(mirror: Mirror, commit: str, paths: Sequence[str]) -> dict[str, str]:
    return {path: answers.text(mirror.file(commit, path) or b"") for path in paths}
