"""Formatting: the same plan, evenly written. Values, comments and order stay as they are."""

from __future__ import annotations

import re
import tomllib

from myriant.core.plan.document import loads
from myriant.core.plan.places import locate

_PAIR = re.compile(r"([A-Za-z0-9_-]+(?:\s*\.\s*[A-Za-z0-9_-]+)*)\s*=\s*(\S.*)")
_WIDEST = 24


def format_plan(text: str) -> str:
    """Align the equals signs of neighbouring keys, one blank line before a table, none in excess.

    A text that is not valid TOML is returned as it is.
    """
    try:
        before = loads(text)
    except (tomllib.TOMLDecodeError, RecursionError, ValueError):
        return text
    lines: list[str] = []
    block: list[tuple[str, str]] = []

    def end_block() -> None:
        width = max((len(k) for k, _ in block if len(k) <= _WIDEST), default=0)
        lines.extend(f"{k:<{width}} = {v}" for k, v in block)
        block.clear()

    plain = text.replace("\r\n", "\n")
    given, ends = plain.split("\n"), _ends(plain)
    at = 0
    while at < len(given):
        end = max(at, ends.get(at, at))
        line = given[at].strip()
        pair = _PAIR.fullmatch(line) if end == at else None
        if pair and not line.startswith("["):
            block.append((pair[1], pair[2]))
        else:
            end_block()
            if line.startswith("[") and lines and lines[-1] != "" and not lines[-1].startswith("#"):
                lines.append("")
            if end > at:
                lines += [given[at].rstrip() if at == end else given[at], *given[at + 1 : end + 1]]
            elif line or (lines and lines[-1] != ""):
                lines.append(line)
        at = end + 1
    end_block()
    while lines and not lines[-1]:
        lines.pop()
    while lines and not lines[0]:
        lines.pop(0)
    done = "\n".join(lines) + "\n" if lines else ""
    try:
        same = loads(done) == before
    except (tomllib.TOMLDecodeError, RecursionError, ValueError):
        same = False
    return done if same else text


def _ends(text: str) -> dict[int, int]:
    """The last line of the statement that begins at a line, for statements over several lines (from 0)."""
    ends: dict[int, int] = {}
    for first, _, last, *_ in locate(text.encode("utf-8", "surrogatepass")).pairs.values():
        ends[first] = max(last, ends.get(first, 0))
    return ends
