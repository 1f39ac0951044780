"""Stacks of any language taken apart: which files and lines a failure names, the project's own first."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from myriant.core.coverage.paths import relative

MOST_FRAMES = 60
_FORMS: tuple[tuple[re.Pattern[str], bool], ...] = tuple(
    (re.compile(pattern, re.MULTILINE), innermost_first)
    for pattern, innermost_first in (
        (r'^\s*File "(?P<file>[^"\n]+)", line (?P<line>\d+)(?:, in (?P<name>[^\n]+))?', False),  # Python
        (r"^\s*at (?P<name>[\w$.<>/]+)\((?P<file>[\w$-]+\.(?:java|kt|scala|groovy)):(?P<line>\d+)\)", True),  # JVM
        (r"^\s*at (?P<name>[^\n]+?) in (?P<file>[^\n:]+\.(?:cs|fs|vb)):line (?P<line>\d+)", True),  # .NET
        (
            r"^\s*at (?:(?P<name>[^\n(]+?) \()?(?:file://)?(?P<file>[^\s()\n]+?\.\w{1,5}):(?P<line>\d+):\d+\)?",
            True,
        ),  # JS
        (r"^\s*#\d+\s+(?P<file>/?[^\s(:]+\.\w{1,5})\((?P<line>\d+)\)(?:: (?P<name>[^\n(]+))?", True),  # PHP
        (r"^\s*#\d+\s+(?:0x[0-9a-f]+ )?in (?P<name>[\w:~<>]+)[^\n]*? (?P<file>[^\s:()]+\.\w{1,4}):(?P<line>\d+)", True),
        (r"^(?P<name>)\s+(?P<file>/?[\w./-]+\.go):(?P<line>\d+) \+0x", True),  # Go
        (r"panicked at (?:'[^'\n]*', )?(?P<name>)(?P<file>[\w./-]+\.rs):(?P<line>\d+)", True),  # Rust
        (r"^\s*(?:# ?)?(?:from )?(?P<file>[\w./-]+\.rb):(?P<line>\d+)(?::in [`'](?P<name>[^'\n]+)')?", True),
        (r"\((?P<name>)(?P<file>[\w./-]+\.erl), line (?P<line>\d+)\)", True),  # Erlang
        (r"\bat (?P<name>)(?P<file>[\w./-]+\.\w{1,4}) line (?P<line>\d+)", True),  # Perl
        (r"(?P<name>)^(?P<file>[\w./@+-]+\.py):(?P<line>\d+):", False),  # pytest
        (
            r"(?P<name>)^\s*(?P<file>[\w./@+-]+\.[A-Za-z]\w{0,4}):(?P<line>\d+)(?::\d+)?(?::|\s|$)",
            True,
        ),  # the usual form
        (r"(?P<name>)[\s(\[\"'](?P<file>[\w./@+-]+\.[A-Za-z]\w{0,4}):(?P<line>\d+)", True),
    )
)
_FOREIGN = re.compile(
    r"(?:^|/)(?:site-packages|dist-packages|node_modules|vendor|\.venv|venv|gems|\.cargo|go/pkg)/"
    r"|^/(?:usr|opt|lib|root|home|nix)/|^/.*/lib/python\d|^node:|^<|^internal/|^\(|/testthat/|/luaunit\.lua$"
    r"|^eunit_|(?:^|/)unittest/(?:case|mock)\.py$|(?:^|/)_pytest/|importlib"
)
_FOREIGN_NAMES = re.compile(
    r"^(?:java|javax|jdk|sun|kotlin|scala|groovy|junit|org\.(?:junit|testng|gradle|apache|hamcrest|assertj))[./]"
)
_TEST_FILE = re.compile(
    r"(?:^|/)(?:tests?|specs?|t|__tests__|integration)/|(?:^|/)test_|[._-](?:test|tests|spec|t)\.\w+$"
    r"|(?:Test|Tests|Spec|IT)\.\w+$|_(?:test|tests|spec)\.\w+$|conftest\.py$|\.(?:feature|robot|bats|t)$"
)
_ROOTS = ("/workspace",)


@dataclass(frozen=True, slots=True)
class Frame:
    """A place that a stack names; `file` is relative to the repository where it lies in it."""

    file: str
    line: int
    name: str
    own: bool  # of the project, as far as its path tells

    @property
    def of_test(self) -> bool:
        return bool(_TEST_FILE.search(self.file))


def frames_of(text: str, roots: Sequence[str] = _ROOTS) -> tuple[Frame, ...]:
    """Frames of a stack, the innermost first, each place once; `roots` are folders where the workspace lay."""
    for form, innermost_first in _FORMS:
        found = []
        for match in form.finditer(text):
            name = (match["name"] or "").strip()
            file = relative(match["file"], roots)
            own = not file.startswith(("/", "..")) and not _FOREIGN.search(file) and not _FOREIGN_NAMES.match(name)
            found.append(Frame(file, int(match["line"][:9]), name, own))
            if len(found) >= 4 * MOST_FRAMES:
                break
        if found:
            ordered = found if innermost_first else found[::-1]
            return tuple(dict.fromkeys(ordered))[:MOST_FRAMES]
    return ()


def is_test_file(path: str) -> bool:
    """Whether a path looks like that of a test, by the customs of common frameworks."""
    return bool(_TEST_FILE.search(path))
