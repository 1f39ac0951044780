"""The settings tracer: each variable's value in force, its origin, what it overrode, and files that set it too."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

_NAMES = re.compile(
    r"(\.env.*|.*\.env|.*\.(ini|cfg|conf|properties|xml|ya?ml|toml|json)|application|setup\.cfg)", re.IGNORECASE
)
_SKIPPED = {".git", "node_modules", ".venv", "venv", "__pycache__", "target", "dist", "build"}
_MOST_FILES, _MOST_BYTES, _MOST_PLACES = 2000, 256 * 1024, 50
_SET = re.compile(
    r"""^\s*(?:export\s+|set\s+|-\s+)?["']?(?P<name>[A-Za-z_][\w.-]*)["']?\s*(?:=|:)\s*(?P<value>.*?)\s*,?\s*$"""
)
_ELEMENT = re.compile(r"<(?P<name>[A-Za-z_][\w.-]*)>(?P<value>[^<]*)</(?P=name)>")
_ATTRIBUTES = re.compile(
    r"""(?:name|key)\s*=\s*["'](?P<name>[A-Za-z_][\w.-]*)["'][^>]*?value\s*=\s*["'](?P<value>[^"']*)["']"""
)


@dataclass(frozen=True, slots=True)
class Place:
    """A line of a file that sets a name."""

    file: str
    line: int
    value: str
    differs: bool


@dataclass(slots=True)
class Setting:
    """A variable: `value` in force, `origin` of it, `overrode` as (origin, value), the weakest first."""

    name: str
    value: str
    origin: str
    overrode: list[tuple[str, str]] = field(default_factory=list)
    files: list[Place] = field(default_factory=list)

    @property
    def contradicted(self) -> list[Place]:
        return [place for place in self.files if place.differs]


def trace(layers: Sequence[tuple[str, Mapping[str, str]]]) -> dict[str, Setting]:
    """Settings by name; `layers` are (origin, values), each stronger than those before."""
    found: dict[str, Setting] = {}
    for origin, values in layers:
        for name, value in values.items():
            known = found.get(name)
            if known is None:
                found[name] = Setting(name, value, origin)
            else:
                known.overrode.append((known.origin, known.value))
                known.value, known.origin = value, origin
    return found


def look_in_files(workspace: Path, settings: Mapping[str, Setting], wanted: set[str]) -> None:
    """Add to the `wanted` settings the lines of the workspace's files that set the same name."""
    if not wanted:
        return
    for path, _ in zip(_candidates(workspace), range(_MOST_FILES), strict=False):
        relative = str(path.relative_to(workspace))
        for name, line, value in _lines(path):
            if name in wanted and len(settings[name].files) < _MOST_PLACES:
                differs = value != settings[name].value
                settings[name].files.append(Place(relative, line, value[:500], differs))


def _candidates(top: Path) -> Iterator[Path]:
    for folder, folders, names in os.walk(top):
        folders[:] = sorted(f for f in folders if f not in _SKIPPED)
        for name in sorted(names):
            path = Path(folder) / name
            if (
                _NAMES.fullmatch(name)
                and not path.is_symlink()
                and path.is_file()
                and path.stat().st_size < _MOST_BYTES
            ):
                if name == "myriant.toml" and Path(folder) == top:
                    continue  # the plan is where the values in force come from
                yield path


def _lines(path: Path) -> Iterator[tuple[str, int, str]]:
    """Names set in a file with line (from 1) and value: dotenv, ini, properties, XML, YAML, TOML and JSON."""
    text = path.read_bytes().decode("utf-8", "replace")
    for number, line in enumerate(text.split("\n"), 1):
        if len(line) > 2000 or line.lstrip().startswith(("#", ";", "//", "<!--")):
            continue
        if path.suffix.lower() == ".xml":
            for found in (*_ELEMENT.finditer(line), *_ATTRIBUTES.finditer(line)):
                yield found["name"], number, found["value"].strip()
        elif (row := _SET.match(line)) is not None:
            yield row["name"], number, _plain(row["value"])


def _plain(value: str) -> str:
    value = re.sub(r"\s+#.*$", "", value) if value[:1] not in "\"'" else value
    if len(value) >= 2 and value[0] in "\"'" and value[-1] == value[0]:
        return value[1:-1]
    return value
