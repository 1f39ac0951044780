"""Waivers: a rule of the plan that need not hold for a time, and everything that it does not let through."""

from __future__ import annotations

import time
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from sqlalchemy import select

from myriant.store.tables import Project, Schedule
from waiting import until
from worlds import Repository, World, junit, writes

PLAN = """version = 1
[[jobs.unit.steps]]
command = "mkdir -p out; cp a.xml a.lcov out/"
collect = { tests = ["out/a.xml"], coverage = ["out/a.lcov"] }
[[gate.rules]]
name = "mostly covered"
measure = "coverage.line"
at-least = 0.7
"""
SOON = (datetime.now(UTC) + timedelta(days=3)).isoformat()


def covered(lines: int) -> str:
    """A report of ten lines, of which so many were run."""
    return "SF:a.lua\n" + "".join(f"DA:{n},{int(n <= lines)}\n" for n in range(1, 11)) + "end_of_record\n"


def waive(world: World, repo: Repository, run: int, status: int = 201, **wish: Any) -> Any:
    body = {"rule": "mostly covered", "reason": "the new reader is tested by hand until May", "until": SOON, **wish}
    answer = world.http.post(f"/projects/{repo.name}/runs/{run}/waivers", json=body)
    assert answer.status_code == status, answer.text
    return answer.json()


def becomes(world: World, repo: Repository, number: int, verdict: str) -> dict[str, Any]:
    end = time.monotonic() + 60
    while True:
        run: dict[str, Any] = world.get(f"/projects/{repo.name}/runs/{number}")
        if run["run"]["verdict"] == verdict or time.monotonic() > end:
            assert run["run"]["verdict"] == verdict, run["run"]["sentence"]
            return run
        time.sleep(0.1)


def test_a_waiver_lets_through_what_was_seen_there_and_nothing_worse_until_it_ends(world: World) -> None:
    repo = world.repository("waived", None)
    source = "\n".join(f"line {n}" for n in range(1, 11))
    repo.pushed({"myriant.toml": PLAN, "a.lua": source, "a.xml": junit(a="passed"), "a.lcov": covered(8)}, "first")
    held = repo.pushed({"a.lcov": covered(5)})["run"]
    assert held["verdict"] == "held"
    odd = (
        ({"rule": "no new failures"}, "not held by"),
        ({"rule": "every result can be trusted"}, "not held by"),
        ({"reason": " "}, "needs a reason"),
        ({"until": "2026-01-01T00:00:00Z"}, "ends within"),
        ({"until": "2036-01-01T00:00:00Z"}, "ends within"),
        ({"until": "2036-01-01T00:00:00"}, "no time zone"),
    )
    for wish, said in odd:
        assert said in waive(world, repo, held["number"], 422, **wish)["detail"]
    assert waive(world, repo, held["number"])["shown"] == "50.0 %, at least 70.0 %"
    clear = becomes(world, repo, held["number"], "clear")
    rule = next(j for j in clear["judged"] if j["name"] == "mostly covered")
    said = "mostly covered (50.0 %, at least 70.0 %) is waived by Ada Fen until "
    assert not rule["met"] and rule["waived"]["reason"].startswith("the new reader")
    end = time.monotonic() + 30
    while "waived   mostly covered" not in repo.note(held["commit"]) and time.monotonic() < end:
        time.sleep(0.1)
    assert "waived   mostly covered: 50.0 %" in repo.note(held["commit"])
    steps = (
        ({"a.lcov": covered(6)}, "clear", "60.0 %"),
        ({"a.lcov": covered(4)}, "held", "40.0 %, at least 70.0 %"),
        ({"a.lcov": covered(5), "a.xml": junit(a="adrift")}, "held", "1 test newly fails"),
        ({"a.xml": junit(a="passed")}, "clear", "is waived by"),
    )
    for files, verdict, words in steps:
        run = repo.pushed(files)["run"]  # type: ignore[arg-type]
        assert (run["verdict"], words in run["sentence"]) == (verdict, True), run["sentence"]
    assert said.split(" by ")[0] in run["sentence"]
    # elsewhere it holds, unless the waiver says everywhere
    beside = repo.commit({"a.lcov": covered(5), "words": "beside"})
    repo.push("beside")
    assert repo.run_of(beside)["run"]["verdict"] == "held"
    number = repo.run_of(beside)["run"]["number"]
    assert world.command("waive", str(number), "--project", repo.name).returncode == 1
    words = ("waive", str(number), "--project", repo.name, "--rule", "mostly covered", "--reason", "so", "--everywhere")
    assert "is waived until" in world.command(*words).stdout
    becomes(world, repo, number, "clear")
    # when both are over, the rule holds again, and what was said before stays
    for row in world.get(f"/projects/{repo.name}/waivers"):
        assert world.http.delete(f"/projects/{repo.name}/waivers/{row['id']}").status_code == 200
    assert [row["over"] for row in world.get(f"/projects/{repo.name}/waivers")] == [True, True]
    assert repo.pushed({"words": "again"})["run"]["verdict"] == "held"
    assert world.get(f"/projects/{repo.name}/runs/{number}")["run"]["verdict"] == "clear"
    assert [line["what"] for line in world.get(f"/projects/{repo.name}/audit")].count("waived") == 2


def test_a_waiver_of_a_branch_reaches_neither_its_schedules_nor_its_tags(world: World) -> None:
    events = '\n[[events.schedule]]\nname = "nightly"\nevery = "day"\nat = "02:10"\n[events.push]\n[events.tag]\n[jobs.unit]\n'
    plan = PLAN.replace("version = 1\n", f"version = 1\n{events}")
    repo = world.repository("waived-there", None)
    files = {"a.lua": "one", "a.xml": junit(a="passed"), "a.lcov": covered(8)}
    assert repo.pushed({"myriant.toml": plan, **files})["run"]["verdict"] == "clear"
    held = repo.pushed({"a.lcov": covered(5)})["run"]
    waive(world, repo, held["number"])
    becomes(world, repo, held["number"], "clear")
    repo.git("tag", "v1")
    repo.git("push", "--quiet", "origin", "v1")
    becomes(world, repo, held["number"] + 1, "held")
    with world.site.store.transaction() as session:
        row = session.scalars(select(Schedule).join(Project).where(Project.name == repo.name)).one()
        row.next_at = datetime.now(UTC) - timedelta(minutes=1)
    run = until(
        lambda: world.get(f"/projects/{repo.name}/runs")["runs"][0],
        lambda r: r["number"] == held["number"] + 2 and r["verdict"] != "undecided",
    )
    assert (run["context"], run["verdict"]) == ("schedule nightly", "held"), run["sentence"]
    word = world.word(held["commit"], repo.name, "push main")
    assert word is not None and word["verdict"] == "clear", "and where it was given it holds"


@pytest.mark.parametrize(
    ("rule", "report", "coverage", "said"),
    [
        ("no new failures", junit(a="adrift"), covered(8), "always stands"),
        ("every result can be trusted", "<testsuite", covered(8), "always stands"),
        ("mostly covered", junit(a="passed"), "", "was not measured"),
    ],
)
def test_what_always_stands_and_what_was_not_measured_cannot_be_waived(
    world: World, rule: str, report: str, coverage: str, said: str
) -> None:
    repo = world.repository(f"stands-{said[:3].strip()}-{len(report)}-{len(coverage)}", None)
    plan = PLAN if coverage else PLAN.replace(', coverage = ["out/a.lcov"]', "")
    run = repo.pushed({"myriant.toml": plan, "a.lua": "one", "a.xml": report, "a.lcov": coverage}, "first")["run"]
    assert run["verdict"] == "held" and said in waive(world, repo, run["number"], 409, rule=rule)["detail"]


@pytest.mark.parametrize("status", [0, 1])
def test_what_is_quarantined_fails_no_cell_however_its_step_ends(world: World, status: int) -> None:
    repo = world.repository(f"quarantined-{status}", test__sh=writes(junit(a="passed", b="passed")))
    broken = writes(junit(a="adrift", b="passed"), status=status)
    test = repo.findings(repo.pushed({"test.sh": broken}))["findings"][0]["tests"][0]["test"]
    until = (datetime.now(UTC) + timedelta(days=2)).isoformat()
    wish = {"tests": [test], "reason": "flickers", "until": until}
    assert world.http.post(f"/projects/{repo.name}/quarantines", json=wish).status_code == 201
    run = repo.pushed({"test.sh": broken + "# again\n"})
    assert run["run"]["verdict"] == "clear", run["run"]["sentence"]
    assert {c["state"] for c in run["cells"]} == {"passed"}, [c["reason"] for c in run["cells"]]
