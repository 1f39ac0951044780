"""Problems of a plan, each at its place with its mend."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from myriant.core.plan.places import Path, Places, locate
from myriant.core.plan.problems import Edit, Level, Place, Problem, nearest

_MOST_DEALT_WITH = 500  # problems after which no more likeness is looked for


def quoted(text: str) -> str:
    """A text as TOML writes it."""
    escaped = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n").replace("\t", "\\t")
    return f'"{escaped}"'


def _replaced(place: Place, text: str) -> tuple[Edit, ...]:
    return (Edit(place.line, place.column, place.end_line, place.end_column, text),)


class Reporter:
    """Notes problems of one plan; places are looked up only when one is asked for."""

    def __init__(self, file: str, source: bytes, problems: list[Problem], *, partial: bool = False) -> None:
        self.file, self.source, self.problems, self.partial = file, source, problems, partial
        self._places: Places | None = None
        self._likely: dict[str, str | None] = {}

    @property
    def places(self) -> Places:
        if self._places is None:
            self._places = locate(self.source)
        return self._places

    def problem(
        self,
        path: Path,
        message: str,
        mend: str,
        *,
        value: bool = False,
        level: Level = Level.ERROR,
        edits: Sequence[Edit] = (),
        missing: bool = False,
    ) -> None:
        """Note a problem; what is `missing` is not said of a text whose syntax errors hid a part of it."""
        if missing and self.partial:
            return
        place: Place = self.places.of_value(path) if value else self.places.of_key(path)
        self.problems.append(
            Problem(level, self.file, place.line, place.column, place.text, message, mend, tuple(edits))
        )

    def warn(self, path: Path, message: str, mend: str, *, value: bool = False, edits: Sequence[Edit] = ()) -> None:
        self.problem(path, message, mend, value=value, level=Level.WARNING, edits=edits)

    def replace_key(self, path: Path, text: str) -> tuple[Edit, ...]:
        return _replaced(self.places.of_key(path), text) if path in self.places.keys else ()

    def replace_value(self, path: Path, text: str) -> tuple[Edit, ...]:
        return _replaced(self.places.of_value(path), text) if path in self.places.values else ()

    def removed(self, path: Path) -> tuple[Edit, ...]:
        """Take out the line or lines of one key, when it has them for itself."""
        place = self.places.of_pair(path)
        if place is None or not self._alone(place):
            return ()
        return (Edit(place.line, 1, place.end_line + 1, 1, ""),)

    def added_below(self, table: Path, line: str) -> tuple[Edit, ...]:
        """A line right below the head of a table; nothing where it has no head of its own."""
        place = self.places.of_key(table)
        lines = self.source.decode("utf-8", "replace").splitlines()
        head = lines[place.line - 1] if 0 < place.line <= len(lines) else ""
        if not head.lstrip().startswith("[") or head.lstrip().startswith("[["):
            return ()
        return (Edit(place.line + 1, 1, place.line + 1, 1, f"{line}\n"),)

    def moved(self, path: Path, table: Path) -> tuple[Edit, ...]:
        """Move a key with its value to the end of a table that has a header of its own."""
        pair, target = self.places.text_of(path), self.places.of_table(table)
        away = self.removed(path)
        if pair is None or target is None or not away:
            return ()
        return (Edit(target.end_line, target.end_column, target.end_line, target.end_column, f"\n{pair}"), *away)

    def _alone(self, place: Place) -> bool:
        lines = self.places.source.decode("utf-8", "replace").split("\n")
        before = lines[place.line - 1][: place.column - 1]
        behind = lines[place.end_line - 1][place.end_column - 1 :].strip()
        return not before.strip() and (not behind or behind.startswith("#"))

    def nearest(self, word: str, known: Iterable[str]) -> str | None:
        return nearest(word, known) if len(self.problems) < _MOST_DEALT_WITH else None

    def unknown_value(
        self, path: Path, word: str, known: Iterable[str], message: str, *, known_as: str, level: Level = Level.ERROR
    ) -> None:
        """A value that must be one of the known ones and is not."""
        known = list(known)
        near = self.nearest(word, known)
        mend = f'did you mean "{near}"?' if near else f"{known_as}: {', '.join(known)[:300] or 'none'}"
        edits = self.replace_value(path, quoted(near)) if near else ()
        self.problem(path, message, mend, value=True, edits=edits, level=level)
