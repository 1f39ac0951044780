"""What each version found, what would be without it, and the plan's edit for it."""

from __future__ import annotations

import random
import tomllib

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.plan.matrix_change import CannotChange, changed_matrix, standing_of
from myriant.core.plan.read import read_plan
from myriant.core.trends.versions import CellTotal, records
from myriant.core.trends.without import without

VERSIONS = ["3.8", "3.9", "3.10", "3.13"]
PLAN = """version = 1

# what runs
[jobs.unit]
title    = "Unit tests"
vary     = { python = ["3.8", "3.9", "3.13"], "database" = ["none"] }  # old and new
advisory = [{ python = "3.13" }]
runtime  = ["python"]
{when}
[[jobs.unit.steps]]
name    = "test"
command = "sh test.sh"
collect = {{ tests = ["out/*.xml"] }}
"""


def plan(when: str = "") -> str:
    return PLAN.replace("{when}", when).replace("{{", "{").replace("}}", "}")


def job(text: str) -> dict[str, object]:
    found: dict[str, object] = tomllib.loads(text)["jobs"]["unit"]
    return found


@pytest.mark.parametrize(
    ("change", "value", "when", "vary", "advisory", "then"),
    [
        ("retire", "3.8", "", ["3.9", "3.13"], [{"python": "3.13"}], None),
        ("retire", "3.13", "", ["3.8", "3.9"], None, None),
        ("advisory", "3.8", "", [*VERSIONS[:2], "3.13"], [{"python": "3.13"}, {"python": "3.8"}], None),
        ("promote", "3.13", "", [*VERSIONS[:2], "3.13"], None, None),
        ("add", "3.10", "", ["3.8", "3.9", "3.10", "3.13"], [{"python": "3.13"}, {"python": "3.10"}], None),
        ("add", "3.14", "", ["3.8", "3.9", "3.13", "3.14"], [{"python": "3.13"}, {"python": "3.14"}], None),
        (
            "nights",
            "3.8",
            "",
            [*VERSIONS[:2], "3.13"],
            [{"python": "3.13"}],
            [{"python": "!3.8"}, {"python": "3.8", "event": "schedule"}],
        ),
        (
            "nights",
            "3.8",
            'when = [{ event = "push" }, { branch = "main" }]',
            [*VERSIONS[:2], "3.13"],
            [{"python": "3.13"}],
            [
                {"event": "push", "python": "!3.8"},
                {"branch": "main", "python": "!3.8"},
                {"branch": "main", "python": "3.8", "event": "schedule"},
            ],
        ),
    ],
)
def test_a_plan_is_changed_in_nothing_but_what_was_asked(
    change: str, value: str, when: str, vary: list[str], advisory: object, then: object
) -> None:
    before = plan(when)
    after = changed_matrix(before, "unit", "python", value, change)
    told = job(after)
    assert told["vary"] == {"python": vary, "database": ["none"]}
    assert told.get("advisory") == advisory
    assert told.get("when") == (then if change == "nights" else job(before).get("when"))
    assert ("schedule" in tomllib.loads(after).get("events", {})) == (change == "nights")
    assert "# what runs" in after and "# old and new" in after and 'command = "sh test.sh"' in after


@pytest.mark.parametrize(
    ("text", "dimension", "value", "change", "why"),
    [
        (plan(), "python", "2.7", "retire", "not listed in this job's vary"),
        (plan(), "database", "none", "retire", "the only value of database"),
        (plan(), "lua", "5.4", "retire", "the values of lua are not listed"),
        (plan(), "python", "3.13", "advisory", "advisory already"),
        (plan(), "python", "3.9", "add", "tested already"),
        (plan(), "python", "3.9", "promote", "says more than that"),
        (
            plan().replace('[{ python = "3.13" }]', '[{ python = "3.13" }, { python = ">= 3.10" }]'),
            "python",
            "3.13",
            "promote",
            "another condition",
        ),
        (plan('when = [{ python = "3.8" }]'), "python", "3.9", "nights", "speaks of python already"),
        ("[jobs.other]\n", "python", "3.9", "nights", "no job unit"),
        ("version = ", "python", "3.9", "nights", "cannot be read"),
    ],
)
def test_what_is_not_changed_says_why(text: str, dimension: str, value: str, change: str, why: str) -> None:
    with pytest.raises(CannotChange, match=why):
        changed_matrix(text, "unit", dimension, value, change)


@pytest.mark.parametrize(
    ("when", "dimension", "value", "stands"),
    [
        ("", "python", "3.8", "binding"),
        ("", "python", "3.13", "advisory"),
        ("", "python", "2.7", "gone"),
        ('add = [{ python = "2.7", database = "none" }]', "python", "2.7", "binding"),
        ('when = [{ python = "!3.8" }, { python = "3.8", event = "schedule" }]', "python", "3.8", "nights"),
        ('when = [{ python = "!3.8" }, { python = "3.8", event = "schedule" }]', "python", "3.9", "binding"),
        (
            'when = [{ branch = "main", python = "!3.8" }, { branch = "main", python = "3.8", event = "schedule" }]',
            "python",
            "3.8",
            "nights",
        ),
        ('when = [{ event = "push" }]', "python", "3.8", "binding"),
    ],
)
def test_how_a_value_stands_in_a_plan(when: str, dimension: str, value: str, stands: str) -> None:
    read = read_plan(plan(when).encode()).plan
    assert read is not None
    assert standing_of(read.find("unit"), dimension, value, "main") == stands
    assert standing_of(None, dimension, value, "main") == "gone"
    if stands == "binding" and not when:
        nightly = read_plan(changed_matrix(plan(), "unit", dimension, value, "nights").encode()).plan
        assert nightly is not None and standing_of(nightly.find("unit"), dimension, value, "main") == "nights"


@st.composite
def pasts(draw: st.DrawFn) -> list[CellTotal]:
    """Runs over a matrix, some of whose cells a sample leaves out; faults of one value, of all, or of one pair."""
    luck = random.Random(draw(st.integers(0, 10**9)))
    cells = []
    for run in range(1, draw(st.integers(1, 40)) + 1):
        fault = luck.choice([None, None, luck.choice(VERSIONS), "all", (luck.choice(VERSIONS), "b")])
        for version in VERSIONS:
            for mode in "ab":
                if luck.random() < 0.2:
                    continue
                failed = fault in (version, "all", (version, mode))
                values = {"python": version, "mode": mode}
                cells.append(CellTotal(run, "unit", values, version == "3.13", failed, luck.random() * 9))
    return cells


@given(pasts(), st.sampled_from(VERSIONS))
def test_what_it_said_would_be_missed_is_missed(cells: list[CellTotal], value: str) -> None:
    """Each run again without the value: held where a binding cell that is left newly failed."""
    told = without(cells, "unit", "python", value)
    runs = {c.run for c in cells if c.values["python"] == value}
    held = {c.run for c in cells if c.failed and not c.advisory and c.run in runs}
    still = {c.run for c in cells if c.failed and not c.advisory and c.run in runs and c.values["python"] != value}
    assert (told.runs, told.breaks, told.missed) == (len(runs), len(held), sorted(held - still))
    assert told.failed == sorted({c.run for c in cells if c.advisory and c.failed and c.values["python"] == value})
    assert len(told.missed) <= told.breaks * told.at_most + 1e-9
    spent = sum(c.seconds for c in cells if c.values["python"] == value)
    assert told.seconds * max(1, told.runs) == pytest.approx(spent)


@pytest.mark.parametrize(("share", "breaks"), [(0.02, 60), (0.1, 40), (0.3, 25)])
def test_the_bound_holds_as_often_as_it_says(share: float, breaks: int) -> None:
    luck, held = random.Random(7), 0
    for _ in range(400):
        cells = []
        for run in range(breaks):
            own = luck.random() < share
            cells += [CellTotal(run, "u", {"v": v}, False, v == "x" or not own, 1.0) for v in "xy"]
        held += without(cells, "u", "v", "x").at_most >= share
    assert held / 400 >= 0.93


def test_an_advisory_version_that_fails_is_not_called_steady() -> None:
    def past(*, fails: bool) -> list[CellTotal]:
        return [
            CellTotal(run, "unit", {"lua": v}, v == "5.4", fails and v == "5.4", 1.0)
            for run in range(30)
            for v in ("5.1", "5.3", "5.4")
        ]

    assert {r.value: r.advice for r in records(past(fails=True))}["5.4"] == ""
    assert {r.value: r.advice for r in records(past(fails=False))}["5.4"] == "promote"
    assert {r.value: (r.failed, r.alone, r.breaks) for r in records(past(fails=True))}["5.4"] == (30, 0, 0)
