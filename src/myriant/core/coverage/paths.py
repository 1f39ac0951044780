"""Paths in reports made those of the repository's files."""

from __future__ import annotations

import posixpath
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field

from myriant.core.plan.globs import matches
from myriant.core.plan.model import CoveragePaths

_DRIVE = 2  # "C:"


@dataclass
class Placing:
    """Where the paths of a report lie in the repository.

    `roots` are absolute folders where the workspace lay; `present` the repository's files at the commit, None when
    they are not known; `plan` what the plan says of paths.
    """

    roots: Sequence[str] = ("/workspace",)
    present: Collection[str] | None = None
    plan: CoveragePaths = field(default_factory=CoveragePaths)
    _by_name: dict[str, list[str]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        for path in sorted(self.present or ()):
            self._by_name.setdefault(posixpath.basename(path), []).append(path)

    def place(self, path: str, sources: Sequence[str] = ()) -> str | None:
        """The path in the repository; None for one that the plan leaves out.

        What fits no file of the repository is given as it would lie there.
        """
        path = _slashes(path)
        for begin, to in self.plan.map:
            if path == begin or path.startswith(begin.rstrip("/") + "/"):
                path = posixpath.join(to, path[len(begin) :].lstrip("/")) if to else path[len(begin) :].lstrip("/")
                break
        found = self._found(path, sources)
        return None if any(matches(glob, found) for glob in self.plan.exclude) else found

    def fits(self, path: str) -> bool:
        """Whether a path is a file of the repository, as far as is known."""
        return self.present is None or path in self.present

    def _found(self, path: str, sources: Sequence[str]) -> str:
        candidates = list(dict.fromkeys(self._candidates(path, sources)))
        usual = candidates[0] if candidates else posixpath.normpath(path)
        if self.present is None:
            return usual
        return next((c for c in candidates if c in self.present), None) or self._by_ending(path) or usual

    def _candidates(self, path: str, sources: Sequence[str]) -> list[str]:
        """Where it could lie, the likeliest first."""
        if path.startswith("/"):
            inside = _inside(path, self.roots)
            return [inside] if inside is not None else []
        bases = [b for source in sources if (b := _inside(_slashes(source).rstrip("/") or "/", self.roots)) is not None]
        if self.plan.root:
            bases = [self.plan.root.strip("/"), *bases]
        return [posixpath.normpath(posixpath.join(base, path)) for base in (*bases, "")]

    def _by_ending(self, path: str) -> str | None:
        """The one file of the repository whose path ends as this one does, the longest ending first."""
        parts = [p for p in posixpath.normpath(path).split("/") if p not in ("", ".", "..")]
        known = self._by_name.get(parts[-1], []) if parts else []
        for start in range(len(parts)):
            ending = "/".join(parts[start:])
            fitting = [k for k in known if k == ending or k.endswith("/" + ending)]
            if fitting:
                return fitting[0] if len(fitting) == 1 else None
        return None


def _slashes(path: str) -> str:
    """Windows' way of writing a path in ours."""
    path = path.replace("\\", "/")
    return path[_DRIVE:] if len(path) > _DRIVE and path[1] == ":" and path[0].isalpha() and path[2] == "/" else path


def relative(path: str, roots: Sequence[str]) -> str:
    """A path as it stands in the repository, by the folders where the workspace lay alone."""
    inside = _inside(_slashes(path), roots)
    return inside if inside is not None else posixpath.normpath(_slashes(path))


def _inside(path: str, roots: Sequence[str]) -> str | None:
    path = posixpath.normpath(path)
    for root in roots:
        root = root.rstrip("/")
        if path == root:
            return ""
        if path.startswith(root + "/"):
            return path[len(root) + 1 :]
    return None if path.startswith("/") else path
