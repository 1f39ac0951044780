"""Places of keys and values in a TOML text, by tree-sitter, so that every problem can be pointed at."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass, field

import tree_sitter_toml
from tree_sitter import Language, Node, Parser

from myriant.core.plan.problems import Place

Path = tuple[str | int, ...]

_LANGUAGE = Language(tree_sitter_toml.language())
_DEEPEST = 64
_KEYS = ("bare_key", "quoted_key", "dotted_key")


_Span = tuple[int, int, int, int, int, int]  # row and byte column of begin and end, first and last byte


@dataclass(slots=True)
class Places:
    """Places by path: ("jobs", "unit", "steps", 0, "command")."""

    source: bytes
    keys: dict[Path, _Span] = field(default_factory=dict)
    values: dict[Path, _Span] = field(default_factory=dict)
    pairs: dict[Path, _Span] = field(default_factory=dict)  # key and value together
    tables: dict[Path, _Span] = field(default_factory=dict)  # a header with its pairs
    headers: dict[Path, _Span] = field(default_factory=dict)
    lines: list[bytes] = field(default_factory=list)

    def of_key(self, path: Path) -> Place:
        """The place of the key at `path`, else of the nearest thing around it."""
        return self._around(self.keys, path)

    def of_value(self, path: Path) -> Place:
        return self._around(self.values, path)

    def of_pair(self, path: Path) -> Place | None:
        """The place of key and value together, None when they do not stand in one piece."""
        return self._place(self.pairs[path]) if path in self.pairs else None

    def of_table(self, path: Path) -> Place | None:
        """The place of a table's header and its pairs."""
        return self._place(self.tables[path]) if path in self.tables else None

    def text_of(self, path: Path) -> str | None:
        """The whole text of the key and value at `path`."""
        span = self.pairs.get(path)
        return None if span is None else self.source[span[4] : span[5]].decode("utf-8", "replace")

    def value_text(self, path: Path) -> str | None:
        span = self.values.get(path)
        return None if span is None else self.source[span[4] : span[5]].decode("utf-8", "replace")

    def _around(self, places: dict[Path, _Span], path: Path) -> Place:
        if path in places:
            return self._place(places[path])
        while path:
            if path in self.keys:
                return self._place(self.keys[path])
            if path in self.values:
                return self._place(self.values[path])
            path = path[:-1]
        return Place(1, 1, "", 1, 1)

    def _place(self, span: _Span) -> Place:
        row, column, end_row, end_column, first, last = span
        text = self.source[first : min(last, first + 800)].split(b"\n", 1)[0].decode("utf-8", "replace")
        return Place(
            row + 1, self._letters(row, column) + 1, text[:200], end_row + 1, self._letters(end_row, end_column) + 1
        )

    def _letters(self, row: int, column: int) -> int:
        """Characters before a byte column."""
        if not self.lines:
            self.lines = self.source.split(b"\n")
        line = self.lines[row] if row < len(self.lines) else b""
        return len(line[:column].decode("utf-8", "replace"))


def locate(source: bytes) -> Places:
    """Every key and value of a TOML document with its place; a faulty document gives what can be seen."""
    walker = _Walker(source)
    walker.document(Parser(_LANGUAGE).parse(source).root_node)
    return walker.places


def _span(node: Node) -> _Span:
    return (*node.start_point, *node.end_point, node.start_byte, node.end_byte)


class _Walker:
    def __init__(self, source: bytes) -> None:
        self.places = Places(source)
        self.lengths: dict[Path, int] = {}  # how many elements each array of tables has so far

    def document(self, root: Node) -> None:
        for node in root.children:
            if node.type == "pair":
                self.pair(node, (), 0)
            elif node.type in ("table", "table_array_element"):
                self.table(node)

    def table(self, node: Node) -> None:
        header = next((child for child in node.children if child.type in _KEYS), None)
        if header is None:
            return
        path: Path = ()
        parts = self.parts(header)
        for i, part in enumerate(parts):
            path = (*path, self.word(part))
            self.places.keys.setdefault(path, _span(part))
            last = i == len(parts) - 1
            if last and node.type == "table_array_element":
                self.lengths[path] = self.lengths.get(path, 0) + 1
            if path in self.lengths:
                path = (*path, self.lengths[path] - 1)
                self.places.keys.setdefault(path, _span(header))
        self.places.headers.setdefault(path, _span(header))
        end = header.end_point[0], header.end_point[1], header.end_byte
        for child in node.children:
            if child.type == "pair":
                self.pair(child, path, 0)
                end = child.end_point[0], child.end_point[1], child.end_byte
        self.places.tables.setdefault(path, (*node.start_point, end[0], end[1], node.start_byte, end[2]))

    def pair(self, node: Node, prefix: Path, depth: int) -> None:
        named = node.named_children
        if len(named) < 2:
            return
        path = prefix
        for part in self.parts(named[0]):
            path = (*path, self.word(part))
            self.places.keys.setdefault(path, _span(part))
        self.places.pairs.setdefault(path, _span(node))
        self.value(named[1], path, depth + 1)

    def value(self, node: Node, path: Path, depth: int) -> None:
        self.places.values.setdefault(path, _span(node))
        if depth > _DEEPEST:
            return
        if node.type == "inline_table":
            for child in node.named_children:
                if child.type == "pair":
                    self.pair(child, path, depth)
        elif node.type == "array":
            for i, child in enumerate(child for child in node.named_children if child.type != "comment"):
                self.value(child, (*path, i), depth + 1)

    def parts(self, node: Node) -> list[Node]:
        if node.type != "dotted_key":
            return [node]
        found: list[Node] = []
        while node.type == "dotted_key":  # a.b.c nests to the left
            found.insert(0, node.named_children[-1])
            node = node.named_children[0]
        return [node, *found]

    def word(self, node: Node) -> str:
        raw = (node.text or b"").decode("utf-8", "replace")
        if node.type != "quoted_key":
            return raw
        try:
            return next(iter(tomllib.loads(f"{raw} = 0")))
        except (tomllib.TOMLDecodeError, StopIteration):
            return raw.strip("\"'")
