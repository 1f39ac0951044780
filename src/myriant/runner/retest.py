"""Running failed tests again within an attempt: which failed, how they are named, what they write."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from pathlib import Path, PurePosixPath

from myriant.core.results.model import Detail, Outcome
from myriant.core.results.read import read_results

_PIECE = 1 << 18


def failed_tests(reports: Sequence[Path], workspace: Path) -> list[dict[str, str]]:
    """The failed and errored tests of some reports, each with file, class, name and suite.

    A report without file names has them found by its class names: `tests.test_tide.TestLow` lies in
    `tests/test_tide.py`, and what is left of it comes before the name: `TestLow::test_turn`.
    """
    found = []
    for report in reports:
        _, results = read_results(_pieces(report))
        for i, outcome in enumerate(results.outcomes):
            if outcome in (Outcome.FAILED, Outcome.ERRORED):
                suite, klass, name = results.suites[i], results.classes[i], results.names[i]
                file = results.details.get(i, Detail()).file
                if not file:
                    file, within = _file_of(klass, workspace)
                    name = "::".join([*within, name])
                found.append({"file": file, "class": klass, "name": name, "suite": suite})
    return found


def _file_of(klass: str, workspace: Path) -> tuple[str, list[str]]:
    parts = re.split(r"[./\\\\]", klass) if re.fullmatch(r"[\w./\\\\-]+", klass) else []
    for size in range(len(parts), 0, -1):
        if any(p in ("", "..") for p in parts[:size]):
            continue
        folder = workspace.joinpath(*parts[: size - 1])
        for path in sorted(folder.glob(f"{parts[size - 1]}.*")) if folder.is_dir() else ():
            if path.is_file():
                return str(path.relative_to(workspace)), parts[size:]
    return "", []


def listed(tests: Sequence[dict[str, str]], each: str) -> str:
    """The file for $MYRIANT_RETEST: one failed test a line, written by `each`."""
    lines = []
    for test in tests:
        line = each
        for key, value in test.items():
            line = line.replace("{" + key + "}", value)
        lines.append(line.replace("\n", " "))
    return "".join(line + "\n" for line in dict.fromkeys(lines))


def beside(globs: Sequence[str]) -> list[str]:
    """Globs for what a retest may write: the same reports, and new files beside them with the same ending."""
    return list(
        dict.fromkeys([*globs, *(str(PurePosixPath(g).with_name("*" + PurePosixPath(g).suffix)) for g in globs)])
    )


def _pieces(path: Path) -> Iterator[bytes]:
    with path.open("rb") as source:
        while piece := source.read(_PIECE):
            yield piece
