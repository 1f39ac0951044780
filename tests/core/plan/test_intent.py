"""What an event makes happen, and the reason for everything that does not."""

from __future__ import annotations

from dataclasses import replace

import pytest

from myriant.core.plan.expectations import unmet
from myriant.core.plan.intent import Event, Fate, Intent, intent, order, steps_for
from myriant.core.plan.model import Expect, Plan
from myriant.core.plan.read import read_plan
from myriant.core.plan.selectors import parse_selector

PLAN = """
version = 1

[events]
push         = { branches = ["main", "season/*"], unless-only = ["docs/**", "*.md"] }
pull-request = { into = ["main"], touching = ["src/**"] }
tag          = { names = ["v*"] }
schedule     = [{ name = "nightly", every = "day", at = "02:20" }]

[jobs.unit]
vary    = { lua = ["5.1", "5.4"], size = ["s", "l"] }
runtime = ["lua"]
[[jobs.unit.steps]]
name = "test"
command = "true $MYRIANT_CELL_SIZE"
[[jobs.unit.steps]]
name = "only at night, on the old one"
when = [{ event = "schedule", lua = "5.1" }]
command = "false"

[jobs.server]
touching = ["src/server/**"]
[[jobs.server.steps]]
command = "make server"

[jobs.slow]
after = ["unit", "server"]
when  = [{ event = "schedule" }, { branch = "season/*", size = "l" }, { event = "manual" }]
vary  = { size = ["s", "l"] }
[[jobs.slow.steps]]
command = "make $MYRIANT_CELL_SIZE"

[jobs.publish]
after = ["unit"]
when  = [{ tag = "!v0*" }]
gated = true
[[jobs.publish.steps]]
command = "make publish"
"""


def plan() -> Plan:
    found = read_plan(PLAN.encode())
    assert not found.errors and found.plan is not None, found.errors
    return found.plan


def runs(found: Intent) -> dict[str, int]:
    return {j.job.id: j.selected for j in found.jobs if j.runs and not found.reason}


@pytest.mark.parametrize(
    ("event", "expected"),
    [
        (Event("push", "main"), {"unit": 4, "server": 1}),
        (Event("push", "main", changed=("src/a.c",)), {"unit": 4}),
        (Event("push", "main", changed=("docs/a.md", "src/server/b.c")), {"unit": 4, "server": 1}),
        (
            Event("push", "season/2026", changed=("src/a.c",)),
            {"unit": 4, "server": 1, "slow": 1},
        ),  # slow waits for server
        (Event("push", "season/2026"), {"unit": 4, "server": 1, "slow": 1}),
        (Event("pull-request", "main", source="topic", changed=("src/a.c",)), {"unit": 4}),
        (Event("tag", tag="v1.2"), {"unit": 4, "server": 1, "publish": 1}),
        (Event("tag", tag="v0.9"), {"unit": 4, "server": 1}),
        (Event("schedule", "main", schedule="nightly"), {"unit": 4, "server": 1, "slow": 2}),
        (Event("manual", "main"), {"unit": 4, "server": 1, "slow": 2}),
        (Event("manual", "main", jobs=("slow",)), {"unit": 4, "server": 1, "slow": 2}),
        (Event("manual", "main", jobs=("publish",)), {"unit": 4, "publish": 1}),
        (Event("manual", "main", cells=parse_selector("job=unit,lua<=5.3")), {"unit": 2}),
        (Event("manual", "main", cells=parse_selector("size=l")), {"unit": 2, "server": 1, "slow": 1}),
        (Event("upload", "main"), {"unit": 4, "server": 1}),
    ],
    ids=str,
)
def test_an_event_runs_these_cells(event: Event, expected: dict[str, int]) -> None:
    found = intent(plan(), event)
    assert runs(found) == expected
    assert all(j.runs or j.reason for j in found.jobs)


@pytest.mark.parametrize(
    ("event", "reason"),
    [
        (Event("push", "topic"), "the plan's push event names main, season/*, not topic"),
        (Event("pull-request", "season/2026"), "the plan's pull-request event names main, not season/2026"),
        (Event("tag", tag="draft"), "the plan's tag event names v*, not draft"),
        (Event("schedule", "main", schedule="weekly"), "the plan has no schedule weekly"),
        (Event("manual", "main", cells=parse_selector("lua=9")), "no job of the plan runs for it"),
    ],
    ids=str,
)
def test_an_event_that_starts_nothing_says_why(event: Event, reason: str) -> None:
    found = intent(plan(), event)
    assert (found.reason, found.starts, runs(found)) == (reason, False, {})


@pytest.mark.parametrize(
    ("event", "reason"),
    [
        (Event("push", "main", changed=("docs/a/b.txt", "README.md")), "only files of docs/**, *.md changed"),
        (Event("pull-request", "main", changed=("docs/a",)), "no changed file is one of src/**"),
    ],
    ids=str,
)
def test_jobs_that_watch_nothing_of_what_changed_are_excused_not_unasked(event: Event, reason: str) -> None:
    found = intent(plan(), event)
    assert (found.reason, found.starts, found.excused) == ("", False, True)
    assert {j.reason for j in found.jobs if j.fate is Fate.EXCUSED} == {reason}
    known = {j.job.id: event.changed for j in found.jobs}
    unknown = next(j.job.id for j in found.jobs if j.fate is Fate.EXCUSED)
    again = intent(plan(), replace(event, changed=None, changed_for={**known, unknown: None}))
    assert again.starts and not again.excused  # a job without a baseline of its own is excused by nothing


@pytest.mark.parametrize(
    ("event", "job", "said"),
    [
        (
            Event("push", "main"),
            "slow",
            "its when (event=schedule;branch=season/*,size=l;event=manual) does not hold for a push to main",
        ),
        (Event("push", "main", changed=("src/a.c",)), "server", "no changed file is one of src/server/**"),
        (Event("manual", "main", jobs=("unit",)), "server", "it was not chosen"),
        (Event("manual", "main", cells=parse_selector("lua=5.1,size=s")), "slow", "it has no cell lua=5.1,size=s"),
        (Event("push", "season/x", changed=("src/a.c",)), "server", "slow waits for it"),
    ],
)
def test_every_job_says_why_it_does_not_run_or_why_it_does(event: Event, job: str, said: str) -> None:
    found = next(j for j in intent(plan(), event).jobs if j.job.id == job)
    assert said in (found.reason, found.because)


def test_steps_follow_cell_and_event_and_the_order_is_by_ranks() -> None:
    unit = plan().job("unit")
    night, day = Event("schedule", "main", schedule="nightly"), Event("push", "main")
    assert [bool(why) for _, why in steps_for(unit, {"lua": "5.1", "size": "s"}, night)] == [False, False]
    assert [bool(why) for _, why in steps_for(unit, {"lua": "5.4", "size": "s"}, night)] == [False, True]
    assert [bool(why) for _, why in steps_for(unit, {"lua": "5.1", "size": "s"}, day)] == [False, True]
    assert order(plan()) == [["unit", "server"], ["slow", "publish"]]
    without = read_plan(b'version = 1\n[jobs.a]\n[[jobs.a.steps]]\ncommand = "true"\n').plan
    assert without is not None and all(
        intent(without, e).starts for e in (Event("push", "x"), Event("pull-request", "y"), Event("manual"))
    )
    assert intent(without, Event("tag", tag="v1")).reason == "the plan has no tag event"


@pytest.mark.parametrize(
    ("expect", "files", "said"),
    [
        (Expect("pyproject.toml", "project.version"), {"pyproject.toml": b'[project]\nversion = "1.2"\n'}, ""),
        (Expect("package.json", "version"), {"package.json": b'{"version": "v1.2"}'}, ""),
        (Expect("VERSION"), {"VERSION": b" 1.2\n"}, ""),
        (Expect("VERSION"), {"VERSION": b"1.3"}, "the tag v1.2 does not equal 1.3 in VERSION"),
        (Expect("VERSION"), {}, "there is no VERSION"),
        (
            Expect("pyproject.toml", "project.version"),
            {"pyproject.toml": b"[project]\nversion = { a = 1 }\n"},
            "has no project.version",
        ),
        (Expect("pyproject.toml", "project.version"), {"pyproject.toml": b"[[["}, "has no project.version"),
        (Expect("package.json", "version"), {"package.json": b"[" * 100_000}, "has no version"),
        (Expect(mentioned_in="CHANGES"), {"CHANGES": b"## 1.2\n"}, ""),
        (Expect(mentioned_in="CHANGES"), {"CHANGES": b"\xff\xfe"}, "CHANGES does not mention 1.2"),
        (Expect(mentioned_in="CHANGES"), {"CHANGES": None}, "CHANGES does not mention 1.2"),
        (Expect("VERSION", None, "CHANGES"), {"VERSION": b"1.2", "CHANGES": b"none"}, "CHANGES does not mention 1.2"),
    ],
)
def test_what_is_expected_of_a_tag(expect: Expect, files: dict[str, bytes | None], said: str) -> None:
    assert unmet(expect, "v1.2", files) == said if not said else said in unmet(expect, "v1.2", files)
