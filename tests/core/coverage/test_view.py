"""What changed, what was lost, who reaches what: against plain ways of finding the same."""

from __future__ import annotations

import difflib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.coverage.model import FileCoverage, Lines
from myriant.core.coverage.view import ChangedFile, Hunk, Moved, Reach, changed_files, lost_lines, lost_of, reached_by


def covered(hits: dict[int, int], branches: dict[int, tuple[int, int]] | None = None) -> FileCoverage:
    lines = Lines(dict(hits), dict(branches or {}))
    return lines.done()


def hunks_of(old: list[str], new: list[str]) -> list[Hunk]:
    """As `git diff --unified=0` says them: a side without lines names the line before."""
    rows = []
    for tag, a, b, c, d in difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if tag != "equal":
            rows.append((a + 1 if b > a else a, b - a, c + 1 if d > c else c, d - c))
    return rows


LINES = st.lists(st.sampled_from("abcdefgh"), max_size=25)


@given(LINES, LINES)
def test_every_old_line_is_found_where_it_went(old: list[str], new: list[str]) -> None:
    moved = Moved(hunks_of(old, new))
    kept = {
        a: c
        for tag, a0, a1, c0, _ in difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes()
        if tag == "equal"
        for a, c in zip(range(a0, a1), range(c0, c0 + a1 - a0), strict=True)
    }
    for i in range(len(old)):
        assert moved.to(i + 1) == (kept[i] + 1 if i in kept else None)


@pytest.mark.parametrize(
    ("before", "after", "hunks", "lost"),
    [
        ({1: 1, 2: 1, 3: 0}, {1: 1, 2: 0, 3: 0}, [], [2]),
        ({1: 1, 2: 1}, {1: 1, 2: 0, 3: 0}, [(1, 0, 2, 1)], [3]),  # a line came before it
        ({1: 1, 2: 1}, {1: 0}, [(1, 1, 0, 0)], [1]),  # the first line went
        ({2: 1}, {2: 0}, [(2, 1, 2, 1)], []),  # it changed: that is the change's own
        ({2: 1}, {1: 1}, [], []),  # it can be covered no more
        ({2: 0}, {2: 0}, [], []),
    ],
)
def test_lost_lines_did_not_change(
    before: dict[int, int], after: dict[int, int], hunks: list[Hunk], lost: list[int]
) -> None:
    assert lost_lines(covered(before), covered(after), hunks) == lost
    assert lost_lines(covered(before), None, []) == [n for n, hits in before.items() if hits]


def test_what_is_lost_lies_in_files_that_are_still_there() -> None:
    before = {path: covered({1: 1, 2: 0}) for path in ("kept", "gone", "unnamed")}
    now = {"kept": covered({1: 0, 2: 0}), "new": covered({1: 0})}
    assert lost_of(before, now, {}, {"kept", "unnamed", "new"}) == {"kept": [1], "unnamed": [1]}


def test_a_changed_file_says_what_nothing_ran_and_what_no_report_knows() -> None:
    files = {"src/gate.lua": covered({1: 1, 2: 0, 3: 4, 9: 0}, {3: (1, 2)}), "src/tide.lua": covered({1: 1})}
    changed = {
        "src/gate.lua": {2, 3, 4},
        "src/tide.lua": {7},
        "src/new.lua": {1, 2, 3, 4, 5, 6},
        "src/bare.lua": {1},
        "src/huge.lua": {2, 3},  # not read: every line counts
        "README.md": {1},
        "test/test_x.lua": {1},
    }
    present = {*changed, "src/old.lua"}
    texts = {"src/new.lua": "local tide = 1\nreturn tide\n\n  -- high water\n}\n", "src/bare.lua": "-- nothing yet\n"}
    assert changed_files(files, changed, present, lambda paths: {p: texts[p] for p in paths if p in texts}) == [
        ChangedFile("src/huge.lua", 0, 2, [2, 3], [], unknown=True),
        ChangedFile("src/new.lua", 0, 2, [1, 2], [], unknown=True),
        ChangedFile("src/gate.lua", 1, 2, [2], [3], unknown=False),
    ]
    assert (
        changed_files(
            {"made/up.c": covered({1: 1})}, changed, present, lambda paths: {p: texts[p] for p in paths if p in texts}
        )
        is None
    )
    assert changed_files(files, {}, present, lambda paths: {p: texts[p] for p in paths if p in texts}) == []


def test_lines_that_only_some_cells_reach_name_them_and_what_they_share() -> None:
    cells = [(f"unit lua={v}", {"job": "unit", "lua": v}) for v in ("5.1", "5.2", "5.4")]
    hits = [{1: 1, 2: 0, 3: 1, 4: 0}, {1: 1, 2: 2, 3: 0, 4: 0}, {1: 3, 2: 1, 3: 1, 4: 0}]
    lines, reaches = reached_by("gate.lua", cells, [{"gate.lua": covered(h)} for h in hits])
    assert lines == {2: 0, 3: 1}, "lines that all reach, or none, are no news"
    assert reaches == [
        Reach(["unit lua=5.2", "unit lua=5.4"], "lua>=5.2"),
        Reach(["unit lua=5.1", "unit lua=5.4"], "lua!=5.2"),
    ]
