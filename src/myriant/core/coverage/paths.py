"""Paths in reports made relative to the repository's root."""

from __future__ import annotations

import posixpath
from collections.abc import Sequence


def relative(path: str, roots: Sequence[str], sources: Sequence[str] = ()) -> str:
    """A path as it stands in the repository.

    `roots` are absolute folders where the workspace lay; `sources` the report's own base folders for
    relative paths (Cobertura), of which the first that lies in a root is taken.
    """
    path = path.replace("\\", "/")
    if not path.startswith("/"):
        for source in sources:
            source = source.replace("\\", "/").rstrip("/")
            inside = _inside(source, roots)
            if inside is not None:
                return posixpath.normpath(posixpath.join(inside, path))
        return posixpath.normpath(path)
    inside = _inside(path, roots)
    return inside if inside is not None else posixpath.normpath(path)


def _inside(path: str, roots: Sequence[str]) -> str | None:
    path = posixpath.normpath(path)
    for root in roots:
        root = root.rstrip("/")
        if path == root:
            return ""
        if path.startswith(root + "/"):
            return path[len(root) + 1 :]
    return None if path.startswith("/") else path
