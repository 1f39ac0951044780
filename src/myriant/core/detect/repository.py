"""What detection looks at: the files of a repository, read when they are asked for."""

from __future__ import annotations

import json
import re
import tomllib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any

from myriant.core.plan.document import loads

MOST_READ = 256 * 1024


@dataclass(frozen=True, slots=True)
class Evidence:
    """A file, and what it says."""

    file: str
    says: str


@dataclass(slots=True)
class Tree:
    """A repository's files; `read` gives a file's bytes, None when it has none."""

    files: Sequence[str]
    read: Callable[[str], bytes | None]
    _texts: dict[str, str] = field(default_factory=dict)

    def has(self, path: str) -> bool:
        return path in self.files

    def text(self, path: str) -> str:
        if path not in self._texts:
            data = self.read(path) if path in self.files else None
            self._texts[path] = (data or b"")[:MOST_READ].decode("utf-8-sig", "replace")
        return self._texts[path]

    def first(self, *paths: str) -> str | None:
        """The first of these paths that is there."""
        return next((p for p in paths if p in self.files), None)

    def like(self, pattern: str) -> list[str]:
        """Paths that match a regular expression, those nearest to the root first."""
        found = re.compile(pattern)
        return sorted((f for f in self.files if found.search(f)), key=lambda f: (f.count("/"), f))

    def toml(self, path: str) -> dict[str, Any]:
        try:
            return loads(self.text(path))
        except (tomllib.TOMLDecodeError, RecursionError, ValueError):
            return {}

    def json(self, path: str) -> dict[str, Any]:
        try:
            found = json.loads(self.text(path) or "{}")
        except (ValueError, RecursionError):
            return {}
        return found if isinstance(found, dict) else {}

    def line(self, path: str, pattern: str) -> str | None:
        """The first group of a pattern in a file."""
        found = re.search(pattern, self.text(path), re.MULTILINE)
        return found[1].strip() if found else None


def inside(table: Any, *keys: str) -> Any:
    """A value below nested tables, None when any of them is missing."""
    for key in keys:
        if not isinstance(table, dict) or key not in table:
            return None
        table = table[key]
    return table
