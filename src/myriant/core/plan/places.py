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


@dataclass(slots=True)
class Places:
    """Places by path: ("jobs", "unit", "steps", 0, "command")."""

    keys: dict[Path, Place] = field(default_factory=dict)
    values: dict[Path, Place] = field(default_factory=dict)

    def of_key(self, path: Path) -> Place:
        """The place of the key at `path`, else of the nearest thing around it."""
        return self._around(self.keys, path)

    def of_value(self, path: Path) -> Place:
        return self._around(self.values, path)

    def _around(self, places: dict[Path, Place], path: Path) -> Place:
        if path in places:
            return places[path]
        while path:
            if path in self.keys:
                return self.keys[path]
            if path in self.values:
                return self.values[path]
            path = path[:-1]
        return Place(1, 1, "")


def locate(source: bytes) -> Places:
    """Every key and value of a TOML document with its place; a faulty document gives what can be seen."""
    walker = _Walker(source)
    walker.document(Parser(_LANGUAGE).parse(source).root_node)
    return walker.places


class _Walker:
    def __init__(self, source: bytes) -> None:
        self.lines = source.split(b"\n")
        self.places = Places()
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
            self.places.keys.setdefault(path, self.place(part))
            last = i == len(parts) - 1
            if last and node.type == "table_array_element":
                self.lengths[path] = self.lengths.get(path, 0) + 1
            if path in self.lengths:
                path = (*path, self.lengths[path] - 1)
                self.places.keys.setdefault(path, self.place(header))
        for child in node.children:
            if child.type == "pair":
                self.pair(child, path, 0)

    def pair(self, node: Node, prefix: Path, depth: int) -> None:
        named = node.named_children
        if len(named) < 2:
            return
        path = prefix
        for part in self.parts(named[0]):
            path = (*path, self.word(part))
            self.places.keys.setdefault(path, self.place(part))
        self.value(named[1], path, depth + 1)

    def value(self, node: Node, path: Path, depth: int) -> None:
        self.places.values.setdefault(path, self.place(node))
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

    def place(self, node: Node) -> Place:
        row, column = node.start_point
        line = self.lines[row] if row < len(self.lines) else b""
        text = (node.text or b"").split(b"\n", 1)[0].decode("utf-8", "replace")
        return Place(row + 1, len(line[:column].decode("utf-8", "replace")) + 1, text[:200])
