"""Files that real producers wrote here, and what each printed of the same run: equal to the line and the branch.

Made on this machine from small programs; only the folder was renamed. Where what a producer prints of itself differs from the file
that it writes, docs/formats.md says how. JaCoCo 0.8.6 and Cobertura 2.1.1 are of Java, covr of R, Devel::Cover of Perl.
"""

from __future__ import annotations

from pathlib import Path

import pytest

from myriant.core.coverage.paths import Placing
from myriant.core.coverage.read import read_coverage

FILES = Path(__file__).parents[2] / "data/coverage"
C, JS, PY = "tide.c", "tide.js", "src/tide/__init__.py"
ES, PHP, PERL, JAVA, R = "vtide.mjs", "tide.php", "lib/Tide.pm", "src/tide/Tide.java", "tide.R"
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
    ("lcov.info", "lcov", C, (7, 10), (5, 6), (2, 3), [6, 11, 12]),
    ("fastcov.info", "lcov", C, (7, 10), (5, 6), (2, 3), [6, 11, 12]),
    ("lcov-cobertura.xml", "cobertura", C, (7, 10), (5, 6), (2, 3), [6, 11, 12]),
    ("slipcover.xml", "cobertura", PY, (4, 6), (1, 2), (0, 0), [3, 8]),
    ("jest-cobertura.xml", "cobertura", JS, (3, 5), (3, 4), (1, 2), [3, 9]),
    ("jest-clover.xml", "clover", JS, (3, 5), (3, 4), (0, 0), [3, 9]),
    ("jest.info", "lcov", JS, (3, 5), (3, 4), (1, 2), [3, 9]),
    ("vitest-v8-cobertura.xml", "cobertura", ES, (2, 4), (3, 4), (1, 2), [3, 9]),
    ("vitest-v8-clover.xml", "clover", ES, (2, 4), (3, 4), (0, 0), [3, 9]),
    ("vitest-v8.info", "lcov", ES, (2, 4), (3, 4), (1, 2), [3, 9]),
    ("vitest-istanbul-cobertura.xml", "cobertura", ES, (2, 4), (3, 4), (1, 2), [3, 9]),
    ("vitest-istanbul-clover.xml", "clover", ES, (2, 4), (3, 4), (0, 0), [3, 9]),
    ("vitest-istanbul.info", "lcov", ES, (2, 4), (3, 4), (1, 2), [3, 9]),
    ("node.info", "lcov", JS, (7, 12), (4, 5), (1, 2), [3, 4, 8, 9, 10]),
    ("tap.info", "lcov", JS, (7, 12), (4, 5), (1, 2), [3, 4, 8, 9, 10]),
    ("monocart.info", "lcov", JS, (4, 7), (3, 4), (1, 2), [3, 8, 9]),
    ("monocart-cobertura.xml", "cobertura", JS, (4, 7), (3, 4), (1, 2), [3, 8, 9]),
    ("monocart-clover.xml", "clover", JS, (4, 7), (3, 4), (0, 0), [3, 8, 9]),
    ("phpunit-clover.xml", "clover", PHP, (3, 5), (0, 0), (1, 2), [5, 14]),
    ("phpunit-cobertura.xml", "cobertura", PHP, (3, 5), (0, 0), (2, 3), [5, 14]),
    ("perl-clover.xml", "clover", PERL, (4, 6), (3, 4), (2, 3), [7, 13]),
    ("jacoco.xml", "jacoco", JAVA, (2, 5), (3, 4), (1, 3), [3, 6, 12]),
    ("java-cobertura.xml", "cobertura", JAVA, (2, 5), (3, 4), (1, 3), [3, 6, 12]),
    ("r-cobertura.xml", "cobertura", R, (2, 4), (0, 0), (1, 2), [3, 9]),
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
    present = [C, JS, PY, ES, PHP, PERL, JAVA, R, "tests/test_tide.py", "tests/__init__.py"]
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
