"""Globs with the rules of .gitignore: `*` within a folder, `**` across folders; without a slash, at any depth."""

from __future__ import annotations

import re
from functools import lru_cache


@lru_cache(maxsize=1024)
def glob_pattern(glob: str) -> re.Pattern[str]:
    """A pattern for whole relative paths with forward slashes."""
    body = glob.removeprefix("./").removeprefix("/")
    anchored = "/" in body.rstrip("/")
    if body.endswith("/"):
        body += "**"
    out, i = "" if anchored else "(?:.*/)?", 0
    while i < len(body):
        if body.startswith("**/", i):
            out, i = out + "(?:.*/)?", i + 3
        elif body.startswith("**", i):
            out, i = out + ".*", i + 2
        elif body[i] == "*":
            out, i = out + "[^/]*", i + 1
        elif body[i] == "?":
            out, i = out + "[^/]", i + 1
        elif body[i] == "[" and (end := body.find("]", i + 2)) > 0:
            inner = body[i + 1 : end].replace("\\", "\\\\")
            out, i = out + f"[{'^' + inner[1:] if inner[0] == '!' else inner}]", end + 1
        else:
            out, i = out + re.escape(body[i]), i + 1
    try:
        return re.compile(out, re.DOTALL)
    except re.error:
        return re.compile(re.escape(glob))


def matches(glob: str, path: str) -> bool:
    return glob_pattern(glob).fullmatch(path) is not None
