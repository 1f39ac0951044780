"""Which lines of a source may do something."""

from __future__ import annotations

from pathlib import PurePosixPath

_COMMENTS = {
    **dict.fromkeys((".lua", ".sql", ".hs", ".adb", ".ads"), "--"),
    **dict.fromkeys((".py", ".rb", ".sh", ".pl", ".pm", ".r", ".jl", ".ex", ".exs", ".tcl"), "#"),
    **dict.fromkeys((".lisp", ".clj", ".scm", ".el"), ";"),
    **dict.fromkeys((".erl", ".tex", ".m"), "%"),
}


def may_be_statement(path: str, row: str) -> bool:
    """Whether a line of a file may hold a statement: it is neither blank, nor brackets alone, nor a comment to its end.

    >>> [may_be_statement("a.lua", row) for row in ("level = 1", "  -- low water", "end", "}", "")]
    [True, False, True, False, False]
    """
    told = row.strip()
    mark = _COMMENTS.get(PurePosixPath(path).suffix.lower(), "//")
    return not told.startswith(mark) and any(c.isalnum() or c == "_" for c in told)
