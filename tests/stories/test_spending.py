"""What runs cost, recomputed from the attempts themselves."""

from __future__ import annotations

import csv
from datetime import datetime

import pytest
import sqlalchemy as sa

from worlds import World, junit

pytestmark = pytest.mark.long

PLAN = """version = 1
[jobs.unit]
vary = { lua = ["5.1", "5.4"] }
runtime = ["lua"]
[[jobs.unit.steps]]
command = "mkdir -p out; cp a.xml out/"
collect = { tests = ["out/a.xml"] }
"""


def test_minutes_are_those_of_the_attempts_and_what_was_taken_over_took_none(world: World) -> None:
    repo = world.repository("costly", None)
    first = repo.pushed({"myriant.toml": PLAN, "a.xml": junit(a="passed")}, "first")
    second = repo.pushed({"a.xml": junit(a="passed", b="passed")}, "second")
    repo.git("checkout", "-q", "-b", "beside")
    repo.push("beside")  # the same content: nothing of it runs
    whole = 0.0
    for run in (first, second):
        for cell in run["cells"]:
            told = world.get(f"/attempts/{cell['attempt_id']}")
            began, ended = (datetime.fromisoformat(told[k]) for k in ("started_at", "ended_at"))
            whole += (ended - began).total_seconds() / 60
    world.http.post("/projects/costly/runs/2/again", json={"which": "all"})
    cost = world.get("/projects/costly/cost")
    assert [e["name"] for e in cost["events"]] == ["push"] and cost["minutes"] >= whole - 1e-6
    rows = list(csv.DictReader(world.http.get("/projects/costly/cost.csv").text.splitlines()))
    assert sum(float(r["minutes"]) for r in rows) == pytest.approx(
        world.get("/projects/costly/cost")["minutes"], abs=0.05
    )
    assert world.get("/desk")["budgets"] == []
    assert world.http.patch("/projects/costly", json={"budget": 1}).status_code == 200
    told = world.get("/projects/costly/cost")
    assert told["budget"] == 1 and told["nearly_spent"] == (told["minutes"] >= 0.8)
    near = [b["project"] for b in world.get("/desk")["budgets"]]
    assert near == (["costly"] if told["nearly_spent"] else [])
    world.http.patch("/projects/costly", json={"budget": 0})
    assert world.get("/projects/costly/cost")["budget"] is None
    by_event = {"push": 1_000_000, "schedule": 40}
    assert world.http.patch("/projects/costly", json={"event_budgets": by_event}).status_code == 200
    events = {e["name"]: e for e in world.get("/projects/costly/cost")["events"]}
    assert {n: (e["budget"], e["nearly_spent"]) for n, e in events.items()} == {
        "push": (1_000_000, False),
        "schedule": (40, False),
    }
    assert events["schedule"]["said"] == "0 min so far this month, 0 % of the 40 of the budget."
    site = world.site
    with site.store.transaction() as session:
        session.execute(
            sa.text(
                "UPDATE attempt SET started_at = attempt.ended_at - interval '2 days' FROM cell, run, project "
                "WHERE attempt.cell_id = cell.id AND cell.run_id = run.id AND run.number = 1 AND "
                "run.project_id = project.id AND project.name = 'costly'"
            )
        )
    world.http.patch("/projects/costly", json={"event_budgets": {"push": 3000, "schedule": 0}})
    told = world.get("/projects/costly/cost")
    assert {e["name"]: e["budget"] for e in told["events"]} == {"push": 3000} and told["budget"] is None
    near = [b for b in world.get("/desk")["budgets"] if b["project"] == "costly"]
    spent = told["events"][0]["minutes"]
    assert [b["said"].startswith("push: ") for b in near] == [True] and spent > 2880, told["events"]
    assert world.http.patch("/projects/costly", json={"event_budgets": {"noon": 3}}).status_code == 422
    world.http.patch("/projects/costly", json={"event_budgets": {"push": 0}})
    assert all(b["project"] != "costly" for b in world.get("/desk")["budgets"])


def test_rankings_say_what_was_pushed(world: World) -> None:
    repo = world.repository("ranked", None)
    good, bad = junit(a="passed", b="passed", c="passed"), junit(a="adrift", b="adrift", c="passed")
    past = [
        ("good", good),
        ("bad", bad),
        ("still", bad),
        ("mended", good),
        ("bad again", bad),
        ("well", good),
        ("bad", bad),
    ]
    for n, (said, report) in enumerate(past):
        plan = {"myriant.toml": PLAN + "\n"} if not n else {}
        run = repo.pushed({**plan, "a.xml": report, "src/n": str(n)}, said)
        assert run["run"]["verdict"] == ("held" if report == bad else "clear")
    told = world.get("/projects/ranked/rankings")
    assert (
        told["said"]
        == "Of the newest 7 pushes to main, 4 were held; 2 tests failed in some of them; 1 of the newest run's 3 tests never did."
    )
    assert [(t["title"].split(" › ")[-1], t["held"], t["runs"], t["began"]) for t in told["failing"]] == [
        ("a", 4, 4, 3),
        ("b", 4, 4, 3),
    ]
    assert [(g["tests"], g["runs"]) for g in told["together"]] == [(2, 4)]
    assert (told["broke"], told["pushes"], told["files"]) == (3, 3, [])  # too few to blame a file
    assert [(e["said"], e["cells"]) for e in told["endings"]] == [("tests failed", 8)]
    assert world.get("/projects/ranked/rankings", branch="elsewhere")["said"] == "No push to elsewhere was decided yet."
