"""A test breaks once, from its first failure to its mend."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.trends.breaks import CellEnded, begun

# a line a run, a column a cell: what fails in it; "." nothing, "-" the cell did not run
ROWS = [
    ("a .|. .|a .", {(1, "0"): "a", (3, "0"): "a"}),  # mended, and broken anew
    ("a .|a .|a .|. .", {(1, "0"): "a"}),  # three pushes upon one break
    ("a .|a a|. a|. .|. a", {(1, "0"): "a", (5, "1"): "a"}),  # it shows in another cell while it lasts
    ("a -|. -|. a", {(1, "0"): "a", (3, "1"): "a"}),
    ("a .|- .|a .|. .", {(1, "0"): "a"}),  # what did not run mends nothing
    ("a a|a .|. .", {(1, "0"): "a", (1, "1"): "a"}),
    ("a b|ab b|b .", {(1, "0"): "a", (1, "1"): "b"}),  # b is broken already
]


def cells(told: str) -> list[CellEnded]:
    return [
        CellEnded(run, "unit", str(i), failing != ".", {ord(t) for t in failing if t != "."})
        for run, line in enumerate(told.split("|"), 1)
        for i, failing in enumerate(line.split())
        if failing != "-"
    ]


@pytest.mark.parametrize(("told", "wanted"), ROWS)
def test_a_break_counts_in_the_run_that_brought_it(told: str, wanted: dict[tuple[int, str], str]) -> None:
    found = {(run, key): "".join(sorted(map(chr, tests))) for (run, _, key), tests in begun(cells(told)).items()}
    assert found == wanted


@given(st.lists(st.lists(st.sampled_from([".", "-", "a", "b", "ab"]), min_size=3, max_size=3), max_size=12))
def test_a_test_breaks_again_only_after_every_cell_that_showed_it_passed(runs: list[list[str]]) -> None:
    found = begun(cells("|".join(" ".join(line) for line in runs)))
    for test in "ab":
        broken: set[int] = set()
        for run, line in enumerate(runs, 1):
            fails = {i for i, f in enumerate(line) if test in f}
            begins = bool(fails) and not broken
            assert begins == any(ord(test) in t for (r, _, _), t in found.items() if r == run), (test, run)
            broken = fails | {i for i in broken if line[i] == "-"}
