"""Globs against their meaning as regular expressions, and in time linear in what they are matched with."""

from __future__ import annotations

import re
import time

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from myriant.core.plan.globs import matches


def meaning(glob: str) -> re.Pattern[str]:
    """The regular expression that a glob stands for; exponential on hostile ones, so not for use."""
    body = glob.removeprefix("./").removeprefix("/")
    out = "" if "/" in body.rstrip("/") or body != glob else "(?:.*/)?"
    body += "**" if body.endswith("/") else ""
    pieces = re.findall(r"\*\*/|\*\*|\*|\?|\[[^\]][^\]]*\]|.", body, re.DOTALL)
    words = {"**/": "(?:.+/)?", "**": ".*", "*": "[^/]*", "?": "[^/]"}
    for piece in pieces:
        if piece in words:
            out += words[piece]
        elif piece[0] == "[" and len(piece) > 2:
            inner = piece[1:-1]
            out += f"(?!/)[{'^' if inner[0] in '!^' else ''}{re.escape(inner.lstrip('!^')) if inner[0] in '!^' else re.escape(inner)}]"
        else:
            out += re.escape(piece)
    return re.compile(out, re.DOTALL)


GLOBS = st.lists(
    st.sampled_from(["a", "b", "/", "*", "**", "**/", "?", "[ab]", "[!a]", ".", "ab", "]"]), min_size=1, max_size=7
).map("".join)
PATHS = st.lists(st.sampled_from(["a", "b", "ab", ".", "/", "]", "[", "\n"]), min_size=1, max_size=9).map("".join)


@settings(max_examples=800)
@given(GLOBS, PATHS)
def test_a_glob_matches_what_it_means(glob: str, path: str) -> None:
    if "//" not in path and not path.startswith("/"):
        assert matches(glob, path) is (meaning(glob).fullmatch(path) is not None)


@pytest.mark.parametrize(
    ("glob", "path", "does"),
    [
        ("*.xml", "out/deep/a.xml", True),
        ("out/*.xml", "out/deep/a.xml", False),
        ("out/**/*.xml", "out/a.xml", True),
        ("out/**/*.xml", "out/b/c/a.xml", True),
        ("**/a", "a", True),
        ("**", "a/b", True),
        ("docs/", "docs/a/b", True),
        ("docs/", "x/docs/a", True),
        ("/docs", "x/docs", False),
        ("./docs/*", "docs/a", True),
        ("a[1-3]", "a2", True),
        ("a[!1-3]", "a2", False),
        ("a[1-3]", "a4", False),
        ("a[", "a[", True),
        ("[a-]", "-", True),
        ("[/]", "/", False),
        ("src/*/test_?.py", "src/x/test_1.py", True),
        ("src/*/test_?.py", "src/x/y/test_1.py", False),
    ],
)
def test_globs_by_example(glob: str, path: str, does: bool) -> None:
    assert matches(glob, path) is does


@pytest.mark.parametrize(
    "glob", ["*a*a*a*a*a*a*b", "**/a/**/a/**/a/**/a/**/b", "*" * 500 + "b", "[!b]" * 300, "**/" * 200 + "b"]
)
def test_a_hostile_glob_costs_what_its_length_does(glob: str) -> None:
    def seconds(path: str) -> float:
        began = time.perf_counter()
        assert not matches(glob, path)
        return time.perf_counter() - began

    matches(glob, "warm")
    for fill in ("a", "a/"):
        short, long = min(seconds(fill * 500 + "ab"[0]) for _ in range(3)), seconds(fill * 4000 + "a")
        assert long < 60 * short + 0.5, "eight times the text, and no power of it"
