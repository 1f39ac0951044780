"""Runners as the server sees them: troubled, replaced, leaving, drained; turns in the queue; leases while a server was away."""

from __future__ import annotations

import hashlib
import os
import signal
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import text

from myriant.flow.compare.supply import Offer, Supply
from myriant.store.people import passes, revoke_shared
from simulated import Simulated, briny
from worlds import Repository, World, junit, parcel, writes


@pytest.fixture
def simulated(world: World) -> Iterator[list[Simulated]]:
    made: list[Simulated] = []
    yield made
    # what only a simulated runner could take, such as control runs, must not come to the next test's
    made.append(last := Simulated(world, "sweeper", slots=32))
    while leases := last.claim(32, wait=0.2):
        for lease in leases:
            last.finish(lease, junit(a="passed"))
    for runner in made:
        world.http.delete(f"/runners/{runner.name}")


def pushed(repo: Repository, message: str = "a change") -> str:
    commit = repo.commit({"test.sh": writes(junit(a="passed")), "message": message})
    repo.push()
    return commit


def test_a_cell_is_tried_elsewhere_when_the_machine_is_at_fault_and_the_machine_is_drained(
    world: World, simulated: list[Simulated]
) -> None:
    repo = briny(world, "troubled", 5)
    simulated.append(bad := Simulated(world, "leaky-hull"))
    simulated.append(good := Simulated(world, "sound-hull"))
    commit = pushed(repo)
    seen = 0
    for _ in range(5):
        for lease in bad.claim(1):
            bad.finish(lease, void="the runner's machine refused: no space left on device", machine=True)
            seen += 1
    assert seen == 5
    told = next(r for r in world.get("/runners") if r["name"] == bad.name)
    assert (
        "its last 5 attempts went void because of its machine" in told["drained"] and "no space left" in told["drained"]
    )
    assert bad.claim(4, wait=0.5) == []
    for _ in range(5):
        for lease in good.claim(1, wait=5):
            good.finish(lease, junit(a="passed"))
    run = repo.run_of(commit)
    assert run["run"]["verdict"] == "clear", run["run"]["sentence"]
    world.http.post(f"/runners/{bad.name}/resume")
    assert not next(r for r in world.get("/runners") if r["name"] == bad.name)["drained"]


def test_of_two_runners_with_one_name_the_first_is_told(world: World, simulated: list[Simulated]) -> None:
    simulated.append(first := Simulated(world, "twin"))
    second = Simulated(world, "twin")
    second.boot = "another"
    assert second.enrol() == first.id
    refused = first.asked(wait=0.5)
    assert refused.status_code == 409 and refused.json()["type"] == "/problems/replaced"
    assert "another runner called twin was started" in refused.json()["detail"]
    assert second.claim(wait=0.2) == []


@pytest.mark.parametrize(
    ("here", "away", "wants", "said"),
    [
        ([("a", "lua 5.4", "", None)], [], "lua 5.4", None),
        ([], [], "lua 5.4", "no runner is in touch"),
        ([("a", "lua 5.4", "its disk is full", None)], [], "lua 5.4", "drained (a): its disk is full"),
        ([("a", "lua 5.4", "", None)], [("b", "lua 5.1", "", None)], "lua 5.1", "b could take it, but is not in touch"),
        (
            [],
            [("b", "lua 5.1", "", None), ("c", "lua 5.1", "", None)],
            "lua 5.1",
            "b, c could take it, but are not in touch",
        ),
        ([("a", "lua 5.4", "", None)], [("b", "lua 5.1", "drained", None)], "lua 5.1", "no runner offers lua 5.1"),
        ([("a", "lua 5.4", "", None)], [("b", "lua 5.1", "", 2)], "lua 5.1", "no runner offers lua 5.1"),
        ([("a", "lua 5.4", "", 2)], [], "lua 5.4", "a could take it, but is not for this project"),
        ([("a", "lua 5.4", "", 2), ("b", "lua 5.4", "", 1)], [], "lua 5.4", None),
    ],
)
def test_why_nobody_takes_a_cell_of_project_1(
    here: list[tuple[str, str, str, int | None]],
    away: list[tuple[str, str, str, int | None]],
    wants: str,
    said: str | None,
) -> None:
    def offers(rows: list[tuple[str, str, str, int | None]]) -> list[Offer]:
        return [Offer(n, frozenset([o]), 1, d, None if p is None else frozenset([p])) for n, o, d, p in rows]

    told = Supply(offers(here), {("lua", "5.4")}, offers(away)).refusal([wants], 1)
    assert (told is None) if said is None else (told is not None and said in told), told


def test_a_runner_has_a_token_of_its_own(world: World, simulated: list[Simulated]) -> None:
    mine, others = briny(world, "mine"), briny(world, "others")
    given = world.http.put("/runner-tokens/harbour", json={"projects": ["mine"]}).json()
    assert "--name harbour" in given["command"] and given["token"] in given["command"]
    shared = Simulated(world, "anybody", labels=("spare",))
    simulated.append(own := Simulated(world, "harbour", token=given["token"]))
    told = {"protocol": 1, "slots": 1, "isolation": "none", "version": "1", "boot": "x", "runtimes": []}
    work = {"boot": own.boot, "free": 1, "holding": [], "wait": 0}
    beat: dict[str, Any] = {"attempts": {}}
    for what, who, path, body, status, says in [
        (
            "under another name",
            own,
            "/runners",
            {**told, "name": "anybody"},
            403,
            "that of runner harbour, not of anybody",
        ),
        (
            "in its place, by the shared token",
            shared,
            "/runners",
            {**told, "name": "harbour"},
            403,
            "has a token of its own",
        ),
        ("its work, by the shared token", shared, f"/runners/{own.id}/claim", work, 403, "has a token of its own"),
        (
            "its leases, by the shared token",
            shared,
            f"/runners/{own.id}/heartbeat",
            beat,
            403,
            "has a token of its own",
        ),
        ("another's work", own, f"/runners/{shared.id}/claim", work, 403, "that of runner harbour"),
        ("another's end", own, f"/runners/{shared.id}/leave?boot={shared.boot}", None, 403, "that of runner harbour"),
        ("a runner that never was", own, "/runners/999999/claim", work, 404, "not enrolled"),
    ]:
        answer = world.http.post(path, json=body, headers=who.own)
        assert (answer.status_code, says in answer.json()["detail"]) == (status, True), (what, answer.text)
    world.http.delete("/runners/anybody")
    theirs, commit = pushed(others), pushed(mine)
    others.run_of(theirs, until="there")
    [lease] = own.claim(4)
    own.finish(lease, junit(a="passed"))
    assert mine.run_of(commit)["run"]["verdict"] == "clear"
    assert own.claim(4, wait=0.5) == []
    [waits] = [c for c in world.get("/queue")["cells"] if c["project"] == "others"]
    assert waits["stuck"] and waits["reason"] == "harbour could take it, but is not for this project"
    assert [r["projects"] for r in world.get("/runners") if r["name"] == "harbour"] == [["mine"]]
    assert [(p["runner"], p["projects"]) for p in world.get("/runner-tokens")] == [("harbour", ["mine"])]
    assert world.http.put("/runner-tokens/x", json={"projects": ["nowhere"]}).status_code == 422
    assert world.command("runners", "add", "harbour").returncode == 0  # a new one: the old is worth nothing
    assert own.asked(wait=0).status_code == 401
    pushed(mine)
    assert world.command("runners", "revoke", "harbour").stdout == "the token of harbour is worth nothing more\n"
    assert world.http.delete("/runner-tokens/harbour").status_code == 404
    world.http.put("/runner-tokens/pier", json={})
    site = world.site
    with site.store.transaction() as session:  # taken back at once: the world's own runner has a shared one
        revoke_shared(session, "runner")
        assert [t.runner for t in passes(session)] == ["pier"]
        session.rollback()
    world.http.delete("/runner-tokens/pier")
    own.token = shared.token
    own.enrol()


def test_a_leaving_runner_delivers_while_its_successor_has_the_name(world: World, simulated: list[Simulated]) -> None:
    repo = briny(world, "leaving")
    simulated.append(old := Simulated(world, "ferry"))
    commit = pushed(repo)
    [lease] = old.claim()
    world.http.post(f"/runners/{old.id}/leave", params={"boot": old.boot}, headers=old.own)
    simulated.append(new := Simulated(world, "ferry"))
    assert new.id != old.id
    assert old.tell(lease, "PUT", "/log", params={"offset": 0}, content=b"still here\n").json() == {"size": 11}
    old.finish(lease, junit(a="passed"))
    assert repo.run_of(commit)["run"]["verdict"] == "clear"
    world.http.delete(f"/runners/ferry~{old.boot[:6]}")


def test_one_projects_many_cells_do_not_keep_anothers_single_one_waiting(
    world: World, simulated: list[Simulated]
) -> None:
    many, one = briny(world, "many-cells", 20), briny(world, "one-cell", 1)
    simulated.append(runner := Simulated(world, "fair"))
    commits = [pushed(many), pushed(one)]
    for repo, commit in zip((many, one), commits, strict=True):
        while not repo.run_of(commit, until="there")["cells"]:
            pass
    order: list[str] = []
    while len(order) < 21:
        for lease in runner.claim(1):
            order.append(lease["project"])
            runner.finish(lease, junit(a="passed"))
    assert order.index("one-cell") <= 2, order
    assert all(repo.run_of(c)["run"]["verdict"] == "clear" for repo, c in zip((many, one), commits, strict=True))


def test_cells_that_told_most_come_first(world: World, simulated: list[Simulated]) -> None:
    repo = briny(world, "telling", 5)
    simulated.append(runner := Simulated(world, "listener"))
    for round_ in range(2):
        commit = pushed(repo, f"round {round_}")
        order = []
        while len(order) < 5:
            for lease in runner.claim(1):
                red = round_ == 0 and lease["values"]["tide"] == "3"
                if lease["number"] > 0:  # control runs have negative numbers
                    order.append(lease["values"]["tide"])
                runner.finish(lease, junit(a="expected 1, got 2" if red else "passed"))
        repo.run_of(commit)
    assert order[0] == "3", "the cell that failed last time runs first"


def test_a_server_that_was_away_costs_no_attempt(world: World, simulated: list[Simulated]) -> None:
    repo = briny(world, "patient")
    simulated.append(runner := Simulated(world, "patient-hull"))
    commit = pushed(repo)
    [lease] = runner.claim()
    site = world.site
    from myriant.flow.dispatch.loss import take_back_expired

    with site.store.transaction() as session:  # as if server and database had been away for a minute
        session.execute(
            text("UPDATE attempt SET lease_until = now() - interval '1 minute' WHERE id = :id"),
            {"id": lease["attempt"]},
        )
        session.execute(text("UPDATE server_beat SET since = now(), beat_at = now()"))
    assert take_back_expired(site) == 0
    assert world.http.post(
        f"/runners/{runner.id}/heartbeat", json={"attempts": {lease["attempt"]: lease["token"]}}, headers=runner.own
    ).json() == {"lost": []}
    runner.finish(lease, junit(a="passed"))
    assert repo.run_of(commit)["run"]["verdict"] == "clear"


def test_a_runner_is_upgraded_without_losing_work(world: World) -> None:
    plan = 'version = 1\n[jobs.unit]\nrunner = ["dock-7"]\n[[jobs.unit.steps]]\nname = "test"\ncommand = "sleep 3; sh test.sh"\ncollect = { tests = ["out/unit.xml"] }\n'
    repo = world.repository("upgraded", plan)
    program = str(Path(__file__).parents[2] / ".venv/bin/myriant")
    words = [program, "runner", "--server", world.address, "--name", "dock", "--label", "dock-7", "--slots", "1"]
    env = {**os.environ, "MYRIANT_RUNNER_TOKEN": world.installation.parts.environment["MYRIANT_RUNNER_TOKEN"]}
    old = subprocess.Popen([*words, "--work", str(world.folder / "dock-1")], env=env)
    try:
        commit = pushed(repo)
        end = time.monotonic() + 20
        while time.monotonic() < end:
            cells = repo.run_of(commit, until="there")["cells"]
            if cells and cells[0]["state"] == "running":
                break
            time.sleep(0.1)
        old.send_signal(signal.SIGHUP)
        end = time.monotonic() + 25  # the old one's claim ends first
        while not any(r["name"].startswith("dock~") for r in world.get("/runners")) and time.monotonic() < end:
            time.sleep(0.1)
        new = subprocess.Popen([*words, "--work", str(world.folder / "dock-2")], env=env)
        try:
            run = repo.run_of(commit)
            assert run["run"]["verdict"] == "clear" and run["cells"][0]["attempt"] == 1, run["run"]["sentence"]
            assert run["cells"][0]["runner"].startswith("dock")
            assert old.wait(15) == 0
        finally:
            new.terminate()
            new.wait(10)
    finally:
        old.kill()
        old.wait()


CACHE = {
    "name": "tides",
    "key": {"renew": {}, "runtimes": {}, "system": "x", "keep": ["out"]},
    "seconds": {},
    "parts": 1,
}


@pytest.mark.parametrize(
    ("method", "path", "options", "status"),
    [
        ("PUT", "/record/settings", {"content": b"{not json"}, 422),
        ("PUT", "/record/settings", {"content": b"[" * 100_000}, 422),
        ("PUT", "/record/tides", {"content": b"{}"}, 422),
        ("PUT", "/record/phases", {"content": b'[{"name": 1}, 7, null]'}, 204),
        ("PUT", "/record/machine", {"content": b'{"machine": {"a\\u0000b": "c"}, "x": 3}'}, 204),
        ("PUT", "/record/settings", {"content": b"x" * (9 << 20)}, 413),
        (
            "POST",
            "/steps",
            {"json": {"position": 0, "name": "a\0b", "command": "\0", "state": "running", "reason": "\0"}},
            204,
        ),
        ("POST", "/caches", {"json": {"name": "tides", "digest": "0" * 64, "parts": 1}}, 422),
        ("POST", "/caches", {"json": CACHE | {"digest": "0" * 64}}, 422),
        ("PUT", "/caches/x/parts/0", {"content": b""}, 422),
        ("POST", "/caches/find", {"json": {"name": "tides", "key": {"renew": 7}}}, 422),
        ("GET", "/caches/entries/999999", {}, 404),
        ("PUT", "/reports", {"content": parcel(b"", digest="0" * 64, parts=3)}, 422),
        ("PUT", "/reports", {"content": parcel(b"<x/>")[:-2]}, 422),
        ("PUT", "/reports", {"content": b"x" * 100}, 422),
        ("PUT", "/reports", {"content": parcel(b"<x/>").replace(b"tests", b"gossip")}, 422),
    ],
)
def test_what_a_runner_tells_may_be_nonsense(
    world: World,
    simulated: list[Simulated],
    request: pytest.FixtureRequest,
    method: str,
    path: str,
    options: dict[str, Any],
    status: int,
) -> None:
    name = f"nonsense-{abs(hash(request.node.name)) % 10**8}"
    repo = briny(world, name)
    simulated.append(runner := Simulated(world, name))
    commit = pushed(repo)
    [lease] = runner.claim()
    answer = runner.tell(lease, method, path, **options)
    assert answer.status_code == status, answer.text
    assert world.http.get(f"/attempts/{lease['attempt']}/record").status_code == 200
    assert world.http.get(f"/projects/{name}/runs/1/timeline").status_code == 200
    runner.finish(lease, junit(a="passed"))
    assert repo.run_of(commit)["run"]["verdict"] == "clear"


def test_a_long_file_comes_in_parts_and_a_damaged_one_is_refused(world: World, simulated: list[Simulated]) -> None:
    repo = briny(world, "in-parts")
    simulated.append(runner := Simulated(world, "hauler"))
    pushed(repo)
    [lease] = runner.claim()
    parts = [b"low tide " * 1000, b"high tide " * 1000, b"slack"]
    for i, part in enumerate(parts):
        for _ in range(2):  # the same part again changes nothing
            assert runner.tell(lease, "PUT", f"/reports/4/parts/{i}", content=part).status_code == 204
    whole = {"number": 4, "content": "artifact", "kind": "", "parts": 3, "path": "x"}
    damaged = runner.tell(lease, "PUT", "/reports", content=parcel(b"", **whole, digest="0" * 64))
    assert damaged.status_code == 422 and "digest differs" in damaged.json()["detail"]
    digest = hashlib.sha256(b"".join(parts)).hexdigest()
    assert runner.tell(lease, "PUT", "/reports", content=parcel(b"", **whole, digest=digest)).status_code == 204
    runner.finish(lease, junit(a="passed"))
    [kept] = [r for r in world.get(f"/attempts/{lease['attempt']}")["reports"] if r["content"] == "artifact"]
    assert world.http.get(f"/reports/{kept['id']}/raw").content == b"".join(parts)
