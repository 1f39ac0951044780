"""Files that real producers wrote here, and what each printed of the same run: equal to the line and the branch.

Made on this machine with gcovr 8.8 (GCC 12), coverage.py, c8 and nyc (Node 20) from three small programs; only the folder was renamed.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from myriant.core.coverage.paths import Placing
from myriant.core.coverage.read import read_coverage

FILES = Path(__file__).parents[2] / "data/coverage"
C, JS, PY = "tide.c", "tide.js", "src/tide/__init__.py"
# file, format, covered and all lines, branches, functions, uncovered lines as the producer's own text says
PRINTED = [
    ("gcovr-cobertura.xml", "cobertura", C, (11, 14), (7, 10), (2, 3), [8, 10, 11]),
    ("gcovr-clover.xml", "clover", C, (11, 14), (0, 0), (0, 0), [8, 10, 11]),  # it writes no branches
    ("gcovr.info", "lcov", C, (11, 14), (7, 10), (2, 3), [8, 10, 11]),
    ("c8-cobertura.xml", "cobertura", JS, (13, 15), (7, 10), (2, 3), [5, 8]),
    ("c8-clover.xml", "clover", JS, (13, 15), (7, 10), (0, 0), [5, 8]),
    ("c8.info", "lcov", JS, (13, 15), (7, 10), (2, 3), [5, 8]),
    ("nyc-cobertura.xml", "cobertura", JS, (8, 10), (7, 10), (2, 3), [5, 8]),
    ("nyc-clover.xml", "clover", JS, (8, 10), (7, 10), (0, 0), [5, 8]),
    ("nyc.info", "lcov", JS, (8, 10), (7, 10), (2, 3), [5, 8]),
    ("coveragepy.xml", "cobertura", PY, (6, 8), (3, 4), (0, 0), [6, 10]),
    ("coveragepy.info", "lcov", PY, (6, 8), (3, 4), (1, 2), [6, 10]),
]


@pytest.mark.parametrize(
    ("file", "form", "path", "lines", "branches", "functions", "uncovered"), PRINTED, ids=[p[0] for p in PRINTED]
)
def test_a_producers_file_says_what_it_printed(
    file: str,
    form: str,
    path: str,
    lines: tuple[int, int],
    branches: tuple[int, int],
    functions: tuple[int, int],
    uncovered: list[int],
) -> None:
    present = [C, JS, PY, "tests/test_tide.py", "tests/__init__.py"]
    found, coverage = read_coverage([(FILES / file).read_bytes()], Placing(present=present))
    assert (found, coverage.error) == (form, None)
    totals = coverage.files[path].totals
    assert (totals.lines_covered, totals.lines_valid) == lines
    assert (totals.branches_covered, totals.branches_valid) == branches
    assert (totals.functions_covered, totals.functions_valid) == functions  # none where it writes no names
    assert coverage.files[path].uncovered == uncovered
    assert set(coverage.files) <= set(present) and coverage.problems == []


def test_every_file_that_is_kept_is_looked_at() -> None:
    assert {p.name for p in FILES.iterdir()} == {row[0] for row in PRINTED}
