"""The text of a plan as values: every syntax error is found, each with its mend."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Sequence
from typing import Any

from myriant.core.plan import model
from myriant.core.plan.document import deep_key
from myriant.core.plan.problems import Edit, Level, Problem
from myriant.core.plan.reporting import quoted

_MOST_SYNTAX_ERRORS = 20


def values(source: bytes, file: str, problems: list[Problem]) -> dict[str, Any] | None:
    """The document's values. Statements with syntax errors are left out one by one, so that all are found."""

    def fault(line: int, column: int, text: str, message: str, mend: str, edits: tuple[Edit, ...] = ()) -> None:
        problems.append(Problem(Level.ERROR, file, line, column, text, message, mend, edits))

    if len(source) > model.MOST_BYTES:
        fault(1, 1, "", f"the plan has {len(source):,} bytes; at most {model.MOST_BYTES:,} are read", "make it smaller")
        return None
    try:
        text = source.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = source.count(b"\n", 0, error.start) + 1
        column = len(source[source.rfind(b"\n", 0, error.start) + 1 : error.start].decode("utf-8", "replace")) + 1
        shown = repr(source[error.start : error.start + 1])[2:-1]
        fault(line, column, shown, "this byte is not UTF-8", "save it as UTF-8")
        return None
    lines = text.replace("\r\n", "\n").split("\n")
    if (deep := deep_key(lines)) is not None:
        fault(deep[0], 1, lines[deep[0] - 1].strip()[:200], f"a key of {deep[1]:,} parts", "nest at most a few levels")
        return None
    for _ in range(_MOST_SYNTAX_ERRORS):
        try:
            return tomllib.loads("\n".join(lines))
        except tomllib.TOMLDecodeError as error:
            found = re.search(r"\(at line (\d+), column (\d+)\)", str(error))
            line, column = (int(found[1]), int(found[2])) if found else (len(lines), len(lines[-1]) + 1)
            reason = str(error).split(" (at ")[0]
            begin, end = _statement(lines, min(line, len(lines)))
            shown = lines[min(line, len(lines)) - 1].strip()[:200]
            mend, edits = _toml_mend(reason, lines, begin, min(line, len(lines)))
            fault(line, column, shown, f"not valid TOML: {reason[:1].lower()}{reason[1:]}", mend, edits)
            for i in range(begin - 1, end):
                lines[i] = ""
        except RecursionError:
            fault(1, 1, "", "the values are nested too deeply", "nest at most a few levels")
            return None
        except ValueError as error:  # a number of thousands of digits
            fault(1, 1, "", f"a value cannot be read: {str(error)[:200]}", "write numbers of a few digits")
            return None
    return None


def _statement(lines: Sequence[str], line: int) -> tuple[int, int]:
    """First and last line of the statement in which an error was found at `line`."""
    begin = line
    start = re.compile(r"\s*(\[|[A-Za-z0-9_\"'.-]+\s*[=:])")
    while begin > 1 and not (start.match(lines[begin - 1]) and lines[begin - 1].strip()):
        begin -= 1
    return begin, max(begin, line)


def _toml_mend(reason: str, lines: Sequence[str], begin: int, line: int) -> tuple[str, tuple[Edit, ...]]:
    bare = re.match(r"(\s*[A-Za-z0-9_.-]+\s*=\s*)([^\s\"'\[{#][^#\"]*?)\s*(#.*)?$", lines[line - 1])
    if "Invalid value" in reason and bare:
        start = len(bare[1]) + 1
        new = quoted(bare[2].strip())
        return f"quote it: {new}", (Edit(line, start, line, start + len(bare[2]), new),)
    colon = re.match(r"(\s*[A-Za-z0-9_-]+)\s*:\s*(?=\S)", lines[line - 1])
    if colon and "=" in reason:
        return "write = instead of :", (Edit(line, len(colon[1]) + 1, line, len(colon[0]) + 1, " = "),)
    for sign, mend in (
        ("overwrite", "remove or rename one of the two"),
        ("twice", "write this table once"),
        ("declare", "write this table once"),
        ("mutate", "write all of this table in one place"),
        ("Invalid value", 'quote texts: key = "value"'),
        ("Unescaped", "write a backslash as \\\\ or use 'single quotes'"),
        ("Illegal character", "close the text with its quote on the same line"),
        ("Unclosed", "close the bracket that was opened"),
        ("=", 'write key = "value"'),
    ):
        if sign in reason:
            return mend, ()
    return "correct this place; everything before it was understood", ()
