"""Which functions a change lies in, and whether a failure names them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

_DEFINED = re.compile(
    r"\b(?:def|function|func|fn|fun|sub|defp?|class|struct|trait|module|interface|impl|enum|object|type)\s+"
    r"(?:\([^)]*\)\s*)?(?P<name>[A-Za-z_][\w.:]*)"
)
_CALLED_LIKE = re.compile(r"(?P<name>[A-Za-z_~][\w.:]*)\s*(?:=\s*(?:async\s*)?(?:function\b\s*)?)?\(")
_NO_NAMES = {"if", "for", "while", "switch", "return", "catch", "function", "main", "init", "new", "self", "this"}
SHORTEST = 3


def defined_in(line: str) -> str:
    """The name of what a line of code begins to define, without what it lies in; empty when it defines nothing.

    >>> defined_in("    def chunked(iterable, n):"), defined_in("local function tide.low(at)"), defined_in("x = 1")
    ('chunked', 'low', '')
    """
    found = _DEFINED.search(line) or _CALLED_LIKE.search(line)
    name = re.split(r"[.:]+", found["name"].strip(".:"))[-1] if found else ""
    return "" if len(name) < SHORTEST or name in _NO_NAMES or name.startswith("__") else name


def named_in(text: str, names: Iterable[str]) -> set[str]:
    """The names that a failure's text calls, that stand in its failing line, or that its stack names as functions.

    A word of a sentence is no name.
    """
    wanted = set(names)
    return {name for name in wanted if name in text} & set(_used(text)) if wanted else set()


def _used(text: str) -> Iterator[str]:
    for form in (_CALLED, _MEMBER, _STACKED):
        yield from (m[1] for m in form.finditer(text))
    for line in _FAILING_LINE.finditer(text):
        yield from _NAME.findall(line[0])


_NAME = re.compile(r"[A-Za-z_]\w{2,}")
_CALLED = re.compile(r"(?<!\w)([A-Za-z_]\w{2,})(?=\s?\()")
_MEMBER = re.compile(r"(?<=[\w\])][.:])([A-Za-z_]\w{2,})\b")
_STACKED = re.compile(r"\b(?:in|in function|method|field|local|upvalue) [`'<]?(?:[\w:.<>]+[.:])?([A-Za-z_]\w{2,})\b")
_FAILING_LINE = re.compile(r"^>[^\n]*", re.MULTILINE)
