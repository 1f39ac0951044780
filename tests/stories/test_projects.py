"""Projects that rest, get another name or go; pull requests that are refs; causes that somebody takes; what changed."""

from __future__ import annotations

import io
import subprocess
import time

import pyarrow.parquet as pq
import pytest

from myriant.flow.intake.refs import look
from myriant.store.tables import Project
from worlds import Repository, World, junit, stored_project, writes

PLAN = """version = 1
[jobs.unit]
runtime = ["lua"]
vary = { lua = ["5.4"] }
[[jobs.unit.steps]]
command = "mkdir -p out; echo reading the gauge; cp report.xml out/a.xml"
collect = { tests = ["out/*.xml"] }
"""
PASSES = "<testsuite name='t'><testcase name='a'/><testcase name='b'/></testsuite>"
FAILS = "<testsuite name='t'><testcase name='a'><failure message='expected 3, got 4'>tide.lua:2: adrift</failure></testcase><testcase name='b'/></testsuite>"


def begun(world: World, name: str) -> Repository:
    repo = world.repository(name, None)
    repo.pushed({"myriant.toml": PLAN, "report.xml": PASSES, "tide.lua": "one\ntwo\n"}, "first")
    return repo


def numbers(world: World, name: str) -> list[int]:
    return [c["run"]["number"] for c in world.get(f"/projects/{name}/strip")["columns"]]


def until(world: World, path: str, holds: object, within: float = 60, **query: object) -> object:
    end = time.monotonic() + within
    while not holds(found := world.get(path, **query)) and time.monotonic() < end:  # type: ignore[operator]
        time.sleep(0.2)
    return found


def test_a_paused_project_starts_nothing_and_takes_up_what_moved_when_it_is_resumed(world: World) -> None:
    repo = begun(world, "resting")
    change = world.http.patch("/projects/resting", json={"paused": True})
    assert change.json() == {"name": "resting"}
    repo.commit({"notes.md": "words"}, "While it rests")
    said = repo.push()
    assert "resting is paused" in said
    subprocess.run(["git", "-C", str(repo.tree), "push", "-q", "origin", "HEAD:refs/heads/side"], check=True)
    assert numbers(world, "resting") == [1]
    key = world.http.post("/projects/resting/badge-key").json()["key"]
    assert "resting: clear" in world.http.get(f"/badges/{key}/verdict.svg").text  # of the commit that was seen last
    assert world.http.post("/projects/resting/runs", json={"ref": "main"}).status_code == 201  # by hand it runs
    assert world.http.patch("/projects/resting", json={"paused": False}).status_code == 200
    found = until(world, "/projects/resting/strip", lambda s: [c["run"]["number"] for c in s["columns"]][-1] >= 3)
    assert [c["run"]["event"] for c in found["columns"]] == ["push", "manual", "push"]  # type: ignore[index]
    assert {"side", "main"} <= set(world.get("/projects/resting/strip")["branches"])
    lines = [a["said"] for a in world.get("/projects/resting/audit")]
    assert "paused" in lines and "resumed" in lines


def test_a_cause_is_taken_until_it_is_fixed(world: World) -> None:
    repo = begun(world, "taken")
    run = repo.pushed({"report.xml": FAILS}, "Let it drift")
    finding = repo.findings(run)["findings"][0]
    assert finding["taken"] is None
    path = f"/projects/taken/runs/2/findings/{finding['id']}/taking"
    assert world.http.put(path, json={"title": finding["title"], "note": "see #12"}).status_code == 204
    taken = repo.findings(run)["findings"][0]["taken"]
    assert taken["note"] == "see #12"
    desk = next(p for p in world.get("/desk")["projects"] if p["project"]["name"] == "taken")
    assert [(t["title"], t["by"]) for t in desk["taken"]] == [(finding["title"], taken["by"])]
    later = repo.pushed({"notes.md": "words"}, "Write it down")  # still failing: still taken
    assert repo.findings(later)["findings"][0]["taken"] is not None
    for less in ("<testcase name='a'><skipped/></testcase>", ""):  # neither skipped nor gone is fixed
        gone = PASSES.replace("<testcase name='a'/>", less)
        repo.pushed({"report.xml": gone}, "Look away")
        desk = next(p for p in world.get("/desk")["projects"] if p["project"]["name"] == "taken")
        assert len(desk["taken"]) == 1, less
    repo.pushed({"report.xml": PASSES}, "Moor it")
    desk = next(p for p in world.get("/desk")["projects"] if p["project"]["name"] == "taken")
    assert desk["taken"] == []
    again = repo.pushed({"report.xml": FAILS}, "Let it drift again")
    assert repo.findings(again)["findings"][0]["taken"] is None
    assert world.http.put("/projects/taken/runs/2/findings/none/taking", json={"title": "t"}).status_code == 404
    assert world.http.delete(f"/projects/taken/findings/{finding['id']}/taking").status_code == 404


def test_what_changed_is_told_file_by_file_also_of_odd_ones(world: World) -> None:
    repo = begun(world, "changed")
    odd = 'näme "with" spaces\t.txt'
    run = repo.pushed(
        {
            "tide.lua": "one\n2\nthree\n",
            odd: "--- a/x\n+++ b/y\n@@ -1 +1 @@\n",
            "report.xml": None,
            "big.txt": "x\n" * 5000,
            "kept/report.xml": PASSES,
            "myriant.toml": PLAN.replace("cp report", "cp kept/report"),
        },
        "Much at once",
    )
    told = world.get(f"/projects/changed/runs/{run['run']['number']}/difference")
    files = {f["path"]: f for f in told["files"]}
    assert [c["title"] for c in told["commits"]] == ["Much at once"] and told["baseline"]["number"] == 1
    assert files["kept/report.xml"]["before"] == "report.xml" and files["kept/report.xml"]["added"] == 0
    assert files["big.txt"]["cut"] and files["big.txt"]["added"] == 5000 and files["big.txt"]["parts"] == []
    lines = [(x["before"], x["now"], x["text"]) for x in files["tide.lua"]["parts"][0]["lines"]]
    assert lines == [(1, 1, "one"), (2, None, "two"), (None, 2, "2"), (None, 3, "three")]
    assert [x["text"] for x in files[odd]["parts"][0]["lines"]] == ["--- a/x", "+++ b/y", "@@ -1 +1 @@"]
    first = world.get("/projects/changed/runs/1/difference")
    assert first["baseline"] is None and {f["path"] for f in first["files"]} == {
        "myriant.toml",
        "report.xml",
        "tide.lua",
    }
    beside = world.get(f"/projects/changed/runs/{run['run']['number']}/difference", base=run["run"]["number"])
    assert beside["files"] == [] and beside["commits"] == []
    assert world.http.get(
        "/projects/changed/files", params={"commit": run["run"]["commit"], "search": "TIDE"}
    ).json() == ["tide.lua"]


def test_pull_requests_that_are_refs_are_found_tested_told_and_closed(world: World) -> None:
    repo = begun(world, "refs")
    assert world.http.patch("/projects/refs", json={"pull_refs": "refs/heads/*"}).status_code == 422
    assert world.http.patch("/projects/refs", json={"pull_refs": "refs/changes/*/head"}).status_code == 200
    repo.git("checkout", "-q", "-b", "work")
    head = repo.commit({"report.xml": FAILS}, "Let it drift")
    repo.git("push", "-q", "origin", "HEAD:refs/changes/12/head", "HEAD:refs/changes/x/head", "HEAD:refs/other/3")
    found = until(world, "/projects/refs/pull-requests", lambda p: p["pulls"] and p["pulls"][0]["verdict"] == "held")
    pull = found["pulls"][0]  # type: ignore[index]
    assert (pull["number"], pull["merge"], pull["mergeable"], pull["new"]) == (12, "its gate is held", False, 1)
    assert len(found["pulls"]) == 1 and pull["title"] == "Let it drift"  # type: ignore[index]

    def outcome() -> list[str]:
        listed = repo.git("ls-remote", "origin", "refs/myriant/outcomes/*").split()
        return [w for w in listed if w.startswith("refs/")]

    end = time.monotonic() + 30
    while not outcome() and time.monotonic() < end:
        time.sleep(0.2)
    assert outcome() == ["refs/myriant/outcomes/12/held"]
    repo.commit({"report.xml": PASSES}, "Moor it")
    repo.git("push", "-q", "origin", "HEAD:refs/changes/12/head")
    found = until(world, "/projects/refs/pull-requests", lambda p: p["pulls"] and p["pulls"][0]["mergeable"])
    pull = found["pulls"][0]  # type: ignore[index]
    assert [h["verdict"] for h in pull["heads"]] == ["held", "clear"] and pull["heads"][0]["commit"] == head
    while outcome() != ["refs/myriant/outcomes/12/clear"] and time.monotonic() < end:
        time.sleep(0.2)
    assert outcome() == ["refs/myriant/outcomes/12/clear"]
    repo.git("checkout", "-q", "main")
    repo.pushed({"notes.md": "words"}, "Main goes on")
    pull = world.get("/projects/refs/pull-requests")["pulls"][0]
    assert pull["stale"] and pull["merge"] == "main has moved since it was tested" and not pull["mergeable"]
    assert world.http.post("/projects/refs/pull-requests/12/runs").status_code == 201
    until(world, "/projects/refs/pull-requests", lambda p: p["pulls"][0]["mergeable"])
    repo.git("push", "-q", "origin", ":refs/changes/12/head")
    over = until(world, "/projects/refs/pull-requests", lambda p: p["pulls"] == [])
    assert over["closed"] == 1  # type: ignore[index]
    assert world.get("/projects/refs/pull-requests", closed=True)["pulls"][0]["merge"] == "it is closed"
    assert world.http.post("/projects/refs/pull-requests/12/runs").status_code == 422


@pytest.mark.parametrize("form", ["", ".csv", ".parquet"])
def test_trends_of_a_branch_are_its_runs(world: World, form: str) -> None:
    name = f"trends{form.replace('.', '-')}"
    repo = begun(world, name)
    repo.pushed({"report.xml": FAILS}, "=Let it drift")
    repo.pushed({"report.xml": PASSES}, "Moor it")
    if form == ".parquet":
        table = pq.read_table(io.BytesIO(world.http.get(f"/projects/{name}/trends.parquet").content)).to_pydict()
        assert (table["new"], table["verdict"]) == ([0, 1, 0], ["clear", "held", "clear"]) and len(table["number"]) == 3
        return
    if form:
        rows = world.http.get(f"/projects/{name}/trends.csv").text.splitlines()
        assert rows[0].startswith("number,commit,title") and len(rows) == 4 and ",'=Let it drift," in rows[2]
        return
    found = world.get(f"/projects/{name}/trends")
    runs = found["runs"]
    assert list(zip(runs["verdict"], runs["new"], runs["fixed"], runs["tests"], runs["rate"], strict=True)) == [
        ("clear", 0, 0, 2, 100),
        ("held", 1, 0, 2, 50),
        ("clear", 0, 1, 2, 100),
    ]
    assert found["held"] == 1 and found["repair"] > 0 and found["changes"] == [] and not found["more"]
    assert "1 of the newest 3 runs were held" in found["said"]
    assert world.get(f"/projects/{name}/trends", runs=2)["more"]
    assert world.get(f"/projects/{name}/trends", branch="none")["said"] == "Nothing has been judged on this branch yet."


def test_a_pull_request_of_which_nothing_was_asked_is_not_ready_to_be_merged(world: World) -> None:
    repo = world.repository("unasked", None)
    plan = PLAN.replace("[jobs.unit]", "[events]\npush = {}\n[jobs.unit]")
    repo.pushed({"myriant.toml": plan, "report.xml": PASSES}, "first")
    repo.git("checkout", "-q", "-b", "work")
    repo.commit({"report.xml": FAILS}, "Let it drift")
    repo.git("push", "-q", "origin", "work")
    repo.git("checkout", "-q", "main")
    world.http.put("/projects/unasked/pull-requests/3", json={"source": "work", "target": "main"})
    found = until(
        world, "/projects/unasked/pull-requests", lambda p: p["pulls"] and p["pulls"][0]["newest"]["ended_at"]
    )
    pull = found["pulls"][0]  # type: ignore[index]
    assert not pull["mergeable"] and pull["merge"].startswith("nothing was asked of it"), pull


def test_a_repository_that_cannot_be_read_is_reported_once_for_each_reason(
    world: World, caplog: pytest.LogCaptureFixture
) -> None:
    site = world.site
    project, _ = stored_project(site.store)
    with site.store.transaction() as session:
        name = session.get_one(Project, project).name
    for reports, address in ((1, "/nowhere"), (1, "/nowhere"), (2, "/elsewhere"), (2, "/elsewhere")):
        with site.store.transaction() as session:
            session.get_one(Project, project).address = address
        assert look(site, name) == []
        assert sum(f"cannot read {name}" in r.getMessage() for r in caplog.records) == reports
    assert "/elsewhere" in next(p for p in world.get("/projects") if p["name"] == name)["trouble"]


def test_a_repository_with_a_plan_says_what_a_push_runs_before_anybody_pushed(world: World) -> None:
    first = world.repository("says-first", PLAN, **{"test.sh": writes(junit(a="passed"))})
    added = world.http.post("/projects", json={"address": str(first.origin), "name": "says-again"})
    assert added.status_code == 201, added.text
    assert "runs 1 cell of" in world.get("/projects/says-again/coming")["next_push"]
    assert world.http.patch("/projects/says-again", json={"paused": True}).status_code == 200
    assert world.get("/projects/says-again/coming")["next_push"].startswith(
        "The project is paused: a push starts nothing"
    )
