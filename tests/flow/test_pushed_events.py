"""Events beside pushes, and what a plan makes of them, with a real server, runner and git."""

from __future__ import annotations

import re
import time
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import select

from myriant.store.tables import Project, Schedule
from waiting import until
from worlds import Repository, World, junit, writes

GREEN = writes(junit(level="passed", gates="passed"))
HEAD = "version = 1\n"
UNIT = """
[jobs.unit]
vary    = { lua = ["5.1", "5.4"] }
runtime = ["lua"]

[[jobs.unit.steps]]
name    = "test"
command = "sh test.sh"
collect = { tests = ["out/unit.xml"] }
"""


def newest(repo: Repository, count: int = 1) -> list[dict[str, Any]]:
    return [c["run"] for c in repo.world.get(f"/projects/{repo.name}/strip", limit=50)["columns"]][-count:]


def decided(repo: Repository, number: int, within: float = 40) -> dict[str, Any]:
    """A run once nothing more of it is coming."""
    end = time.monotonic() + within
    while time.monotonic() < end:
        view: dict[str, Any] = repo.world.get(f"/projects/{repo.name}/runs/{number}")
        if view["run"]["ended_at"]:
            return view
        time.sleep(0.15)
    raise AssertionError(f"#{number} was not decided: {view['run']}")


def cells(view: dict[str, Any]) -> dict[str, tuple[str, str]]:
    return {f"{c['job']} {c['key']}".strip(): (c["state"], c["reason"]) for c in view["cells"]}


def test_a_step_without_network_reaches_nothing(world: World) -> None:
    reach = 'command = "test $(grep -c : /proc/net/dev) -gt 1"\n'  # something beside its own loopback
    plan = (
        HEAD
        + f"[jobs.open]\n[[jobs.open.steps]]\n{reach}[jobs.shut]\nnetwork = false\n[[jobs.shut.steps]]\n{reach}[[jobs.shut.steps]]\nnetwork = true\nalways = true\n{reach}"
    )
    repo = world.repository("no-network", None)
    view = repo.pushed({"myriant.toml": plan}, "Walls")
    assert cells(view)["open"][0] == "passed" and cells(view)["shut"][0] == "failed"
    shut = next(c for c in view["cells"] if c["job"] == "shut")
    assert [s["state"] for s in world.get(f"/attempts/{shut['attempt_id']}")["steps"]] == ["failed", "passed"]


def test_at_once_stop_early_and_supersede(world: World) -> None:
    plan = (
        HEAD + '[jobs.unit]\nvary = { n = ["1", "2", "3", "4"] }\nat-once = 2\n[[jobs.unit.steps]]\nname = "test"\n'
        'command = "sleep 0.8; echo $MYRIANT_CELL_N; sh test.sh"\ncollect = { tests = ["out/unit.xml"] }\n'
        '[jobs.early]\nvary = { n = ["1", "2", "3"] }\nat-once = 1\nstop-early = true\n[[jobs.early.steps]]\nname = "test"\n'
        'command = "echo $MYRIANT_CELL_N; exit 1"\n'
    )
    repo = world.repository("bounds", None)
    repo.commit({"myriant.toml": plan, "test.sh": GREEN}, "first")
    repo.push()
    most = 0
    for _ in range(400):
        found = world.http.get("/projects/bounds/runs/1")
        if found.status_code == 200:
            view = found.json()
            most = max(most, sum(c["state"] == "running" for c in view["cells"] if c["job"] == "unit"))
            if view["run"]["ended_at"]:
                break
        time.sleep(0.02)
    assert most == 2
    states = [c["state"] for c in view["cells"] if c["job"] == "early"]
    assert sorted(states) == ["failed", "stopped", "stopped"]
    assert any("stopped early" in c["reason"] for c in view["cells"])
    repo.commit(
        {
            "test.sh": "sleep 3\n" + GREEN,
            "myriant.toml": plan.replace("[jobs.early]", '[jobs.early]\nsupersede = "running"'),
        },
        "slow",
    )
    repo.push()
    until(lambda: (r := newest(repo)[0])["number"] == 2 and r["state"] == "running")
    repo.commit({"test.sh": GREEN}, "newer")
    repo.push()
    assert decided(repo, 3)["run"]["verdict"] == "held"
    older = decided(repo, 2)
    kept = [c for c in older["cells"] if c["job"] == "unit" and c["state"] == "passed"]
    assert len(kept) == 4 or "superseded by #3" in older["run"]["sentence"]
    assert world.command(
        "verdict", older["run"]["commit"], "--wait", "--within", "5", "--project", "bounds"
    ).returncode in (1, 3)


def test_a_schedule_comes_from_the_main_branch_runs_once_when_missed_and_says_so(world: World) -> None:
    plan = (
        HEAD
        + '[events]\npush = {}\n[[events.schedule]]\nname = "nightly"\nevery = "day"\nat = "02:20"\nzone = "Europe/Oslo"\n'
        + UNIT
    )
    repo = world.repository("nightly", plan, test__sh=GREEN)
    coming = world.get("/projects/nightly/coming")
    [schedule] = coming["schedules"]
    assert schedule["words"] == "every day at 02:20, Europe/Oslo" and coming["hooked"] and coming["next_look"] is None
    assert coming["next_push"].startswith("A push to main runs 2 cells of 1 job")
    site = world.site
    with site.store.transaction() as session:
        row = session.scalars(
            select(Schedule).join(Project, Project.id == Schedule.project_id).where(Project.name == "nightly")
        ).one()
        row.next_at = datetime.now(UTC) - timedelta(days=3, hours=1)
    view = until(lambda: (n := newest(repo)[0]) and n["event"] == "schedule" and decided(repo, n["number"]))
    assert view["run"]["context"] == "schedule nightly" and {c["reused"] for c in view["cells"]} == {None}
    assert [r["event"] for r in newest(repo, 5)].count("schedule") == 1
    with site.store.transaction() as session:
        assert session.scalars(
            select(Schedule.next_at).join(Project, Project.id == Schedule.project_id).where(Project.name == "nightly")
        ).one() > datetime.now(UTC)
    assert re.search(r"late, due \d{4}-\d\d-\d\d \d\d:\d\d UTC\.$", view["run"]["sentence"])
