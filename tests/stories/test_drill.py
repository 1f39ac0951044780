"""The drill: a gate tried with artificial failures, read at every place, and gone afterwards."""

from __future__ import annotations

import itertools
import time
from datetime import UTC, datetime, timedelta

import pytest

from inprocess import Clock, Stories
from myriant.core.gate import judge
from myriant.flow.admin.projects import forget_project
from myriant.flow.drill import trial as drills
from myriant.flow.drill.asked import ask_for_drill, drill_as_asked
from myriant.flow.drill.by_schedule import SOON, call_for_drills, drill_by_schedule
from myriant.flow.naming import the_project
from myriant.flow.who import Person
from myriant.store.tables import Project
from worlds import World

pytestmark = pytest.mark.long

WHOLE = """version = 1
[jobs.unit]
vary = { lua = ["5.1", "5.4"] }
runtime = ["lua"]
[[jobs.unit.steps]]
command = "make"
collect = { tests = ["out/*.xml"], coverage = ["out/lcov.info"] }
[jobs.lint]
[[jobs.lint.steps]]
command = "lint"
collect = { analysis = ["out/a.sarif"], tests = ["out/lint.xml"] }
[jobs.publish]
gated = true
[[jobs.publish.steps]]
command = "echo published"
[[gate.rules]]
name = "enough tests"
measure = "tests.total"
at-least = 40
[[gate.rules]]
name = "covered"
measure = "coverage.line"
at-least = 0.8
folder = "src/locks"
[[gate.rules]]
name = "changed"
measure = "coverage.changed"
at-least = 0.7
[[gate.rules]]
name = "ratchet"
measure = "coverage.line"
at-least = "baseline"
"""
STEPS = "version = 1\n[jobs.build]\n[[jobs.build.steps]]\ncommand = 'make'\n"
LENIENT = WHOLE.replace("[[gate.rules]]", '[gate]\nvanished = "warn"\nnew-failures = "warn"\n[[gate.rules]]', 1)
ADA = Person(0, "Ada Fen", "maintainer")
_names = itertools.count()


def drilled(world: World, plan: str) -> tuple[str, drills.Drill]:
    """A watched repository with a plan, and what its drill says."""
    repo = world.repository(f"drill-{next(_names)}", None)
    repo.commit({"myriant.toml": plan}, "first")
    world.http.patch(f"/projects/{repo.name}", json={"paused": True})  # nothing of it runs but the drill
    repo.push()
    site = world.site
    world.http.patch(f"/projects/{repo.name}", json={"paused": False})
    return repo.name, drills.drill(site, repo.name, ADA)


@pytest.mark.parametrize(
    ("plan", "expected"),
    [
        (WHOLE, "clear held held held held held held clear"),
        (STEPS, "clear held held clear"),
        (LENIENT, "clear clear held clear held held held clear"),
    ],
    ids=["whole", "steps", "lenient"],
)
def test_a_gate_holds_what_its_plan_says_at_every_place_and_nothing_is_left(
    world: Stories, monkeypatch: pytest.MonkeyPatch, plan: str, expected: str
) -> None:
    name, told = drilled(world, plan)
    assert told.passed, told.said
    assert " ".join(s.expected for s in told.steps) == expected
    assert {len(s.places) for s in told.steps} == {7} and all(s.right for s in told.steps)
    assert [p["name"] for p in world.get("/projects") if "drill" in p["name"] and p["name"].endswith(".drill")] == []
    site = world.site
    assert site is not None and list((site.mirrors.parent / "drills").iterdir()) == []
    assert world.get(f"/projects/{name}/audit")[0]["what"] == "drill"
    monkeypatch.setattr("myriant.cli.projects.time", Clock(world))
    said = world.command("project", "drill", name)
    assert said.returncode == 0 and "The gate holds" in said.stdout, said.stdout


def test_a_gate_that_does_not_hold_is_said_and_so_is_a_way_that_would_tell_nothing(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(judge.Judged, "holds_run", property(lambda j: False))
    name, told = drilled(world, WHOLE)
    assert not told.passed and "does NOT hold: one test fails in one cell, and it must be held" in told.said
    monkeypatch.undo()
    wish = {"url": "https://rooms.example/{secret:ROOM}", "body": '{"say": "{sentence}"}', "always": True}
    assert world.http.put(f"/projects/{name}/ways/room", json=wish).status_code == 204
    site = world.site
    told = drills.drill(site, name, ADA)
    assert not told.passed and "room (rooms.example) says nothing: the project has no secret ROOM" in told.said
    world.http.put(f"/projects/{name}/secrets/ROOM", json={"value": "opensesame"})
    assert drills.drill(site, name, ADA).passed


def test_a_gate_is_tried_by_schedule_and_what_came_of_it_stands_on_the_desk(world: World) -> None:
    name, _ = drilled(world, LENIENT)
    site = world.site
    assert world.http.patch(f"/projects/{name}", json={"drill": "sometimes"}).status_code == 422
    assert world.http.patch(f"/projects/{name}", json={"drill": "day 06:00 Europe/Oslo"}).is_success
    line = world.get(f"/projects/{name}")
    assert line["drill_at"] and line["drilled"] is None
    with site.store.transaction() as session:
        project = the_project(session, name)
        project.drill_at = datetime.now(UTC) - timedelta(days=9)  # missed nine times, and tried once
        number = project.id
    call_for_drills(site, datetime.now(UTC))
    while (told := world.get(f"/projects/{name}"))["drilled"] is None:
        time.sleep(0.2)  # the worker tries it
    soon = datetime.now(UTC) + 2 * SOON
    assert datetime.fromisoformat(told["drill_at"]) > soon and told["drilled"]["passed"] is True
    with site.store.transaction() as session:
        session.add(Project(name=f"{name}.drill", address="/nowhere", main_branch="main", paused=True))
    drill_by_schedule(site, number)
    other = world.get(f"/projects/{name}")
    assert other["drilled"] == told["drilled"], "while somebody else tries it, nothing is known of the gate"
    assert datetime.fromisoformat(other["drill_at"]) < soon
    assert world.http.patch(f"/projects/{name}", json={"drill": ""}).is_success
    drill_by_schedule(site, number)
    assert world.get(f"/projects/{name}")["drill_at"] is None, "a schedule that was taken away meanwhile stays away"
    forget_project(site, f"{name}.drill")
    with site.store.transaction() as session:
        the_project(session, name).plan = None
        the_project(session, name).address = "/nowhere/at/all"
    drill_by_schedule(site, number)
    told = world.get(f"/projects/{name}")["drilled"]
    assert told["passed"] is False and "could not be tried" in told["said"]
    assert {"project": name, "said": told["said"]} in world.get("/desk")["gates"]
    drill_by_schedule(site, 10**8)  # a project that is there no more


def test_a_drill_that_is_asked_for_is_answered_at_once_and_followed(
    world: Stories, monkeypatch: pytest.MonkeyPatch
) -> None:
    name, _ = drilled(world, STEPS)
    at = f"/projects/{name}/drill"
    assert world.get(at) == {"goes_on": False, "at": None, "by": "", "over": None, "came": None, "refused": ""}
    ask_for_drill(world.site, name, ADA)
    assert world.get(at)["goes_on"] and world.http.post(at).status_code == 409
    world.settle()
    told = world.get(at)
    assert not told["goes_on"] and told["came"]["passed"] and (told["by"], told["refused"]) == ("Ada Fen", "")
    monkeypatch.setattr("myriant.flow.drill.asked.drill_anew", lambda *_: 1 // 0)
    assert world.http.post(at).status_code == 202
    assert "could not be tried (ZeroDivisionError" in world.get(at)["refused"] and world.get(at)["came"] is None
    monkeypatch.setattr("myriant.store.records.LONGEST", timedelta(0))
    ask_for_drill(world.site, name, ADA)
    assert not world.get(at)["goes_on"] and "broken off" in world.get(at)["refused"]  # its worker was killed


def test_a_drill_whose_worker_was_killed_is_tried_anew(world: Stories, monkeypatch: pytest.MonkeyPatch) -> None:
    name, _ = drilled(world, STEPS)
    ask_for_drill(world.site, name, ADA)

    def killed(*_: object) -> None:
        raise KeyboardInterrupt

    with monkeypatch.context() as broken:
        broken.setattr(drills, "_steps", killed)
        broken.setattr(drills, "forget_project", lambda *_: None)
        with world.site.store.view() as session, pytest.raises(KeyboardInterrupt):
            drill_as_asked(world.site, the_project(session, name).id)
    assert f"{name}.drill" in [p["name"] for p in world.get("/projects")]
    assert world.http.post(f"/projects/{name}/drill").status_code == 409, "it is not over yet"
    world.settle()  # the task is taken up again
    told = world.get(f"/projects/{name}/drill")
    assert not told["goes_on"] and told["came"]["passed"] and not told["refused"]
    assert f"{name}.drill" not in [p["name"] for p in world.get("/projects")]
