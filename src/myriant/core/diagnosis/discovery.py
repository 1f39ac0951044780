"""Files that look like tests but of which no result came, and marks that leave out all other tests."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable, Sequence

_LOOKS = re.compile(
    r"(?:^|/)(?:test_[^/]+\.(?:py|lua|rb|R)|[^/]+_test\.(?:py|go|rb|lua|exs|dart|cc|cpp)|[^/]+\.(?:test|spec)\.[cm]?[jt]sx?"
    r"|[^/]+_spec\.(?:rb|lua)|[^/]+Tests?\.(?:java|kt|cs|php|scala)|[^/]+\.(?:bats|t|robot|feature))$"
)
_ONLY = re.compile(
    r"\b(?:describe|context|it|test|suite|specify)\.only\s*\(|^\s*(?:fdescribe|fcontext|fit)\s*\(|\bfocus:\s*true\b|:focus\b",
    re.MULTILINE,
)
_WORDS = re.compile(r"[A-Za-z0-9_-]+")
FOCUSABLE = re.compile(r"\.[cm]?[jt]sx?$|_spec\.\w+$")


def looks_like_test(path: str) -> bool:
    return bool(_LOOKS.search(path))


def not_run(files: Iterable[str], told: Iterable[str]) -> list[str]:
    """Files that look like tests and that nothing of `told` (suites, classes, files and names of results) mentions.

    Kept to file endings of which at least one file was recognised, and to a minority of them: where reports do not say
    from which file a test is, nothing is claimed.
    """
    words: set[str] = set()
    for text in told:
        words.update(w.lower() for w in _WORDS.findall(text))
    by_ending: dict[str, list[tuple[str, bool]]] = {}
    for path in files:
        if looks_like_test(path):
            stem = posixpath.basename(path).partition(".")[0].lower()
            by_ending.setdefault(posixpath.splitext(path)[1], []).append((path, stem in words))
    found = []
    for rows in by_ending.values():
        missing = [path for path, known in rows if not known]
        if missing and 2 * len(missing) <= len(rows):
            found += missing
    return sorted(found)


def leftovers(sources: Sequence[tuple[str, str]]) -> list[tuple[str, int, str]]:
    """Path, line and text of marks that make a framework leave out every other test; `sources` are paths with texts."""
    found = []
    for path, text in sources:
        for m in _ONLY.finditer(text):
            begin = m.start() + len(m[0]) - len(m[0].lstrip())
            end = text.find("\n", begin)
            line = text[text.rfind("\n", 0, begin) + 1 : end if end >= 0 else len(text)]
            found.append((path, text.count("\n", 0, begin) + 1, line.strip()[:200]))
    return found
