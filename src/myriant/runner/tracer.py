"""The settings tracer: each variable's value in force, its origin, what it overrode, and files that set it too."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

_MOST_PLACES = 50


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


def place(settings: Mapping[str, Setting], wanted: set[str], found: Sequence[tuple[str, str, int, str]]) -> None:
    """Add to the `wanted` settings the lines of files that set the same name: (name, file, line, value)."""
    for name, file, line, value in found:
        if name in wanted and len(settings[name].files) < _MOST_PLACES:
            settings[name].files.append(Place(file, line, value, value != settings[name].value))
