"""Which causes are one although their messages differ."""

from __future__ import annotations

from itertools import groupby

import numpy as np
import pytest

from myriant.core.diagnosis.signature import group, signature_of
from myriant.core.results.model import Outcome
from myriant.flow.views.findings.joining import Failed, joined
from myriant.store.results import Shown

ALL = "1 2 3"
LOW, HIGH = (
    "> assert low_water(3) == 1\nE  assert 4 == 1",
    "> assert high_water('x') == 'y'\nE  KeyError: 'no such port'",
)
CALLS_BOTH = "> assert low_water(1) == high_water(2)\nE ValueError: neither of these is a level"
CHANGED = {"tide/level.py": ("low_water", "high_water")}
# name, test class, cells it fails in, its text[, its mark]
Row = tuple[str, ...]


@pytest.mark.parametrize(
    ("rows", "changed", "together"),
    [
        # one file, one exception, in one version of three
        (
            [
                ("a", "t.test_level", "1", "E KeyError: 'ebb' of the north"),
                ("b", "t.test_level", "1", "E KeyError: unknown harbour"),
            ],
            {},
            ["ab"],
        ),
        (
            [
                ("a", "t.test_level", ALL, "E KeyError: 'ebb' of the north"),
                ("b", "t.test_level", ALL, "E KeyError: unknown harbour"),
            ],
            {},
            ["a", "b"],
        ),
        (
            [
                ("a", "t.test_level", "1", "E KeyError: 'ebb' of the north"),
                ("b", "t.test_level", "2", "E KeyError: unknown harbour"),
            ],
            {},
            ["a", "b"],
        ),
        (
            [
                ("a", "t.test_level", "1", "E KeyError: 'ebb' of the north"),
                ("b", "t.test_quay", "1", "E KeyError: unknown harbour"),
            ],
            {},
            ["a", "b"],
        ),
        # both name what has changed, whatever they raise and wherever they are
        (
            [
                ("a", "t.test_level", ALL, LOW),
                ("b", "t.test_quay", ALL, "low_water('x')\nE TypeError: not a number at all"),
            ],
            CHANGED,
            ["ab"],
        ),
        ([("a", "t.test_level", ALL, LOW), ("b", "t.test_quay", ALL, HIGH)], CHANGED, ["a", "b"]),
        (
            [
                ("a", "t.test_level", ALL, LOW),
                ("b", "t.test_quay", "1 2", "low_water('x')\nE TypeError: not a number at all"),
            ],
            CHANGED,
            ["a", "b"],
        ),
        (
            [
                ("a", "t.test_level", ALL, LOW),
                ("b", "t.test_quay", ALL, "low_water('x')\nE TypeError: not a number at all"),
            ],
            {},
            ["a", "b"],
        ),
        # what names both joins one of them, and never both
        ([("a", "t.m", ALL, LOW), ("b", "t.n", ALL, HIGH), ("c", "t.o", ALL, CALLS_BOTH)], CHANGED, ["ac", "b"]),
        # they point to one changed file, while they pass elsewhere
        (
            [
                ("a", "t.test_level", "1", "E assert 1 == 2"),
                ("b", "t.test_level", "1", "E IndexError: nothing is left"),
            ],
            CHANGED,
            ["ab"],
        ),
        (
            [
                ("a", "t.test_level", ALL, "E assert 1 == 2"),
                ("b", "t.test_level", ALL, "E IndexError: nothing is left"),
            ],
            CHANGED,
            ["a", "b"],
        ),
        (
            [("a", "t.test_level", "1", "E assert 1 == 2"), ("b", "t.test_quay", "1", "E IndexError: nothing is left")],
            CHANGED,
            ["a", "b"],
        ),
        (
            [
                ("a", "t.test_level", "1", "E assert 1 == 2"),
                ("b", "t.test_level", "1", "E IndexError: nothing is left"),
            ],
            {**CHANGED, "shore/level.py": ()},
            ["a", "b"],
        ),
        # what was known before is no part of what is new
        (
            [
                ("a", "t.test_level", "1", LOW, "known"),
                ("b", "t.test_level", "1", "low_water()\nE TypeError: not a number at all"),
            ],
            CHANGED,
            ["a", "b"],
        ),
    ],
)
def test_causes_are_joined_by_what_they_share_and_no_further(
    rows: list[Row], changed: dict[str, tuple[str, ...]], together: list[str]
) -> None:
    failed = []
    for number, (name, klass, cells, text, *mark) in enumerate(rows):
        for cell in cells.split():
            shown = Shown(
                attempt_id=1,
                number=number,
                kind="unit",
                suite="s",
                klass=klass,
                name=name,
                outcome=Outcome.FAILED,
                seconds=0.1,
                message=text.splitlines()[-1].removeprefix("E "),
                detail=text,
                extra={},
                signature="",
            )
            signature = signature_of(shown.message, text, "", klass)
            failed.append(Failed(shown, ("unit", cell), mark[0] if mark else "new", signature, ()))
    ran = {("unit", cell): np.ones(len(rows), bool) for cell in ALL.split()}
    asked: list[str] = []

    def changes() -> dict[str, tuple[str, ...]]:
        asked.append("git")
        return changed

    groups = joined(failed, group([f.signature for f in failed]), ran, changes)
    assert len(asked) <= 1, "what costs is asked for once"
    assert ["".join(k for k, _ in groupby(failed[m].shown.name for m in g.members)) for g in groups] == together
    assert all(g.because for g in groups if len({failed[m].shown.number for m in g.members}) > 1)
