"""Projects that rest, get another name or go; pull requests that are refs; causes that somebody takes; what changed."""

from __future__ import annotations

import json
import subprocess
import time
import xml.etree.ElementTree as ET
from datetime import UTC, datetime

import pytest
import sqlalchemy as sa

from myriant.flow.upkeep import retention as retention_of
from myriant.store import retention
from worlds import Repository, World

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


def until(world: World, path: str, holds: object, within: float = 60, **query: object) -> object:
    end = time.monotonic() + within
    while not holds(found := world.get(path, **query)) and time.monotonic() < end:  # type: ignore[operator]
        time.sleep(0.2)
    return found


def test_a_renamed_project_is_heard_under_its_new_name_and_a_removed_one_is_gone(world: World) -> None:
    repo = begun(world, "first-name")
    for name in ("Second Name", "", "-x"):
        assert world.http.patch("/projects/first-name", json={"name": name}).status_code == 422
    assert world.http.patch("/projects/first-name", json={"name": "second-name", "description": "d"}).status_code == 200
    repo.name = "second-name"
    assert world.http.get("/projects/first-name").status_code == 404
    run = repo.pushed({"notes.md": "words"}, "Under its new name")
    assert run["run"]["number"] == 2 and run["run"]["verdict"] == "clear"
    assert (repo.origin / "hooks/myriant-bells").read_text().startswith("second-name ")
    kept = world.get("/projects/second-name/kept")
    assert kept["runs"] == 2 and kept["attempts"] == 2 and kept["file_bytes"] > 0
    assert world.http.delete("/projects/second-name", params={"really": "second"}).status_code == 422
    assert world.http.delete("/projects/second-name", params={"really": "second-name"}).status_code == 204
    assert world.http.get("/projects/second-name").status_code == 404
    assert not (repo.origin / "hooks/post-receive").exists()
    assert repo.git("log", "-1", "--format=%s").strip() == "Under its new name"


def test_a_badge_says_what_holds_now_to_who_has_its_address(world: World) -> None:
    repo = begun(world, "badged")
    key = world.http.post("/projects/badged/badge-key").json()["key"]
    assert world.http.post("/projects/badged/badge-key").json()["key"] == key

    def badge(what: str = "verdict", headers: dict[str, str] | None = None, **query: str):  # type: ignore[no-untyped-def]
        return world.http.get(
            f"/badges/{key}/{what}.svg", params=query, headers={"Authorization": "", **(headers or {})}
        )

    def said(what: str = "verdict", **query: str) -> str:
        answer = badge(what, **query)
        assert answer.status_code == 200 and len(answer.content) < 2000, answer.text
        return ET.fromstring(answer.text).attrib["aria-label"]

    assert said() == "badged: clear" and said("tests") == "badged: 100.0 % of 2 tests"
    assert said("coverage") == "badged: not measured" and said(branch="none") == "badged none: nothing has run"
    mark = badge().headers["etag"]
    assert badge(headers={"If-None-Match": mark}).status_code == 304 and badge().headers["cache-control"] == "no-cache"
    repo.pushed({"report.xml": FAILS}, "Let it drift")
    assert said() == "badged: held" and badge(headers={"If-None-Match": mark}).status_code == 200
    assert said("tests") == "badged: 50.0 % of 2 tests"
    world.http.post("/projects/badged/runs", json={"ref": "main", "cells": "lua=5.4"})  # evidence says nothing of it
    until(world, "/projects/badged/strip", lambda s: s["columns"][-1]["run"]["ended_at"])
    assert said() == "badged: held" and said("tests") == "badged: 50.0 % of 2 tests"
    repo.git("reset", "-q", "--hard", "HEAD~1")
    subprocess.run(["git", "-C", str(repo.tree), "push", "-q", "--force", "origin", "main"], check=True)
    until(world, "/projects/badged", lambda p: said() == "badged: clear")
    assert (
        said() == "badged: clear" and said("tests") == "badged: 100.0 % of 2 tests"
    )  # of the commit that stands there
    assert said(text="<b>&\"'") == "<b>&\"': clear"
    for path, status in (("x/verdict.svg", 404), (f"{key}/none.svg", 422), (f"{key}/verdict.svg?theme=x", 422)):
        assert world.http.get(f"/badges/{path}", headers={"Authorization": ""}).status_code == status, path


def test_old_logs_and_files_go_and_everything_else_stays(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(retention, "KEPT_RUNS", 1)
    repo = begun(world, "pruned")
    held = repo.pushed({"report.xml": FAILS}, "Let it drift")
    repo.pushed({"report.xml": PASSES}, "Moor it")
    newest = repo.pushed({"notes.md": "words"}, "Write it down")
    site = world.site
    with site.store.engine.begin() as connection:
        for table in ("run", "attempt"):
            connection.execute(sa.text(f"UPDATE {table} SET ended_at = ended_at - interval '40 days'"))
    before = [world.get(f"/projects/pruned/runs/{n}") for n in (1, 2, 4)]
    attempts = [view["cells"][0]["attempt_id"] for view in before]
    assert world.http.get(f"/attempts/{attempts[1]}/log").text
    with site.store.engine.begin() as connection:  # as if the newest run's answer were that of the first
        wanted = {"first": attempts[0], "newest": attempts[2]}
        connection.execute(
            sa.text("UPDATE cell SET reused = 1, attempt_id = :first WHERE attempt_id = :newest"), wanted
        )
    assert world.http.get("/projects/pruned/keeping", params={"days": 0}).status_code == 422
    assert world.get("/projects/pruned/keeping", days=30)["attempts"] == 0  # of four runs the newest twenty are kept
    would = retention_of.would_free(site, "pruned", 30)
    assert would.attempts >= 2 and would.log_bytes > 0 and would.file_bytes > 0
    assert world.http.put("/projects/pruned/keeping", json={"days": 30}).status_code == 204
    while retention_of.prune_a_little(site, datetime.now(UTC)):
        pass
    with site.store.engine.begin() as connection:
        for table in ("run", "attempt"):
            connection.execute(sa.text(f"UPDATE {table} SET ended_at = ended_at + interval '40 days'"))
    after = [world.get(f"/projects/pruned/runs/{n}") for n in (1, 2, 4)]
    assert [(v["run"]["verdict"], v["run"]["sentence"], v["tests"]) for v in after] == [
        (v["run"]["verdict"], v["run"]["sentence"], v["tests"]) for v in before
    ]
    told = world.get(f"/attempts/{attempts[1]}")
    assert told["pruned_at"] and told["log_size"] == 0 and told["reports"]
    assert world.http.get(f"/reports/{told['reports'][0]['id']}/raw").status_code == 404
    assert "a" in json.dumps(repo.findings(held)["findings"])  # the failure is still told
    assert world.get(f"/attempts/{attempts[0]}")["pruned_at"] is None  # the newest run shows it
    assert world.get(f"/attempts/{attempts[2]}")["pruned_at"] is None and newest["run"]["verdict"] == "clear"
    assert retention_of.would_free(site, "pruned", 30) == retention_of.Freed(0, 0, 0)
    assert world.http.put("/projects/pruned/keeping", json={"days": None}).status_code == 204
    assert repo.pushed({"notes.md": "more words"}, "On it goes")["run"]["verdict"] == "clear"
