"""Runner, server, worker and database killed in the middle: said, nothing lost, never clear by accident."""

from __future__ import annotations

import os
import signal
import time

import pytest
from sqlalchemy import text

from worlds import PLAN, World, junit, parcel, writes

SLOW = "sleep 2\n" + writes(junit(a="passed", b="passed"))
SLOW_RED = "sleep 2\n" + writes(junit(a="passed", b="expected 1, got 2"), status=1)


@pytest.mark.parametrize("victim", ["runner", "server", "worker", "database"])
def test_a_killed_part_loses_nothing_and_invents_nothing(world: World, victim: str) -> None:
    repo = world.repository(f"killed-{victim}", PLAN, test__sh=writes(junit(a="passed", b="passed")))
    commit = repo.commit({"test.sh": SLOW_RED}, "break, slowly")
    repo.push()
    end = time.monotonic() + 20
    while time.monotonic() < end:
        run = repo.run_of(commit, until="there")
        if run["cells"] and all(c["state"] == "running" for c in run["cells"]):
            break
        time.sleep(0.15)
    installation = world.installation
    if victim == "database":
        os.kill(installation.database.pid, signal.SIGKILL)
    else:
        process = next(p.process for p in installation.parts.parts if p.name == victim)
        assert process is not None
        os.kill(process.pid, signal.SIGKILL)
    decided = None
    end = time.monotonic() + 60
    while time.monotonic() < end and decided is None:
        try:
            run = repo.run_of(commit, until="there", within=2)
        except AssertionError:
            continue
        assert run["run"]["verdict"] in ("undecided", "held")
        decided = run if run["run"]["verdict"] == "held" and run["run"]["ended_at"] else None
        time.sleep(0.1)
    assert decided is not None
    assert "1 test newly fails" in decided["run"]["sentence"]
    assert [(c["state"], c["total"], c["failed"]) for c in decided["cells"]] == [("failed", 2, 1)] * 2
    if victim == "runner":
        attempts = [world.get(f"/attempts/{c['attempt_id']}") for c in decided["cells"]]
        earlier = world.get(f"/attempts/{attempts[0]['earlier'][0]}")
        assert earlier["state"] == "void" and "started anew" in earlier["reason"]
    assert "verdict: held" in repo.note(commit, within=30)


def test_a_late_report_of_a_lost_attempt_is_refused(world: World) -> None:
    token = world.installation.parts.environment["MYRIANT_RUNNER_TOKEN"]
    headers = {"Authorization": f"Bearer {token}"}
    told = {
        "protocol": 1,
        "name": "late",
        "slots": 1,
        "isolation": "none",
        "version": "1",
        "boot": "one",
        "runtimes": [{"family": "fen", "version": "1.0", "path": "/x"}],
    }
    runner = world.http.post("/runners", json=told, headers=headers).json()["runner"]
    repo = world.repository("late", PLAN.replace("lua", "fen").replace('["5.1", "5.4"]', '["1.0"]'))
    commit = repo.commit({"test.sh": SLOW})
    repo.push()
    [lease] = world.http.post(
        f"/runners/{runner}/claim", json={"boot": "one", "free": 1, "wait": 20}, headers=headers
    ).json()
    mine = {"Authorization": f"Bearer {lease['token']}"}
    assert world.http.put(
        f"/attempts/{lease['attempt']}/log", params={"offset": 0}, content=b"one", headers=mine
    ).json() == {"size": 3}
    assert world.http.put(
        f"/attempts/{lease['attempt']}/log", params={"offset": 0}, content=b"one two", headers=mine
    ).json() == {"size": 7}
    assert world.http.put(
        f"/attempts/{lease['attempt']}/log", params={"offset": 99}, content=b"x", headers=mine
    ).json() == {"size": 7}
    world.http.post("/runners", json=told | {"boot": "two"}, headers=headers)
    late = world.http.post(f"/attempts/{lease['attempt']}/finish", json={}, headers=mine)
    assert late.status_code == 409 and late.json()["type"] == "/problems/lease-lost"
    assert world.http.post(
        f"/runners/{runner}/heartbeat", json={"attempts": {lease["attempt"]: lease["token"]}}, headers=headers
    ).json() == {"lost": [lease["attempt"]]}
    run = repo.run_of(commit, until="there")
    assert run["run"]["verdict"] == "undecided" and "again after attempt 1" in run["cells"][0]["reason"]
    # a damaged report is refused, and a runner lost three times leaves the cell void
    for boot, after in (("two", "three"), ("three", "four")):
        [lease] = world.http.post(
            f"/runners/{runner}/claim", json={"boot": boot, "free": 1, "wait": 20}, headers=headers
        ).json()
        mine = {"Authorization": f"Bearer {lease['token']}"}
        damaged = world.http.put(
            f"/attempts/{lease['attempt']}/reports", content=parcel(b"<x/>", digest="0" * 64), headers=mine
        )
        assert damaged.status_code == 422 and "digest" in damaged.json()["detail"]
        world.http.post("/runners", json=told | {"boot": after}, headers=headers)
    decided = repo.run_of(commit)
    assert decided["run"]["verdict"] == "held" and decided["cells"][0]["state"] == "void"


def test_a_run_that_cannot_be_judged_says_why_and_is_judged_when_it_can(world: World) -> None:
    site = world.site
    repo = world.repository("unjudged", PLAN, test__sh=writes(junit(a="passed")))
    mine = (
        "FROM cell, run, project WHERE segment.attempt_id = cell.attempt_id AND run.id = cell.run_id "
        "AND project.id = run.project_id AND project.name = 'unjudged'"
    )
    with site.store.transaction() as session:
        session.execute(text(f"UPDATE segment SET outcomes = outcomes || '\\x00' {mine}"))
    commit = repo.commit({"x": "y"})
    repo.push()
    end = time.monotonic() + 20
    run = repo.run_of(commit, until="there")
    while "failed and is tried again" not in run["reason"] and time.monotonic() < end:
        run = repo.run_of(commit, until="there")
        time.sleep(0.1)
    assert run["run"]["verdict"] == "undecided" and "failed and is tried again" in run["reason"]
    with site.store.transaction() as session:
        session.execute(text(f"UPDATE segment SET outcomes = substr(outcomes, 1, 3) {mine} AND length(outcomes) = 4"))
    assert repo.run_of(commit)["run"]["verdict"] == "clear"
