"""What a runner tells, and what becomes of its cells and of itself."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest

from inprocess import Stories
from myriant.flow.intake.told import take_event
from simulated import Simulated, briny
from worlds import Repository, junit

GREEN = junit(a="passed")


@pytest.fixture(scope="module")
def runner(world: Stories) -> Simulated:
    return Simulated(world, "brine", token=world.runner_token)


def leased(runner: Simulated, repo: Repository, files: dict[str, str | None], count: int = 1) -> list[dict[str, Any]]:
    repo.commit(files)
    repo.push()
    leases = runner.claim(count, wait=0)
    assert len(leases) == count
    return leases


def test_a_heartbeat_with_a_wrong_token_keeps_nothing_alive(world: Stories, runner: Simulated) -> None:
    repo = briny(world, "beaten")
    (lease,) = leased(runner, repo, {"x": "1"})
    for token, lost in (("another", [lease["attempt"]]), (lease["token"], [])):
        told = {str(lease["attempt"]): token}
        answer = world.http.post(f"/runners/{runner.id}/heartbeat", json={"attempts": told}, headers=runner.own)
        assert answer.json() == {"lost": lost}
    runner.finish(lease, GREEN)


def test_troubles_of_a_machine_count_in_a_row_and_not_for_life(world: Stories, runner: Simulated) -> None:
    repo = briny(world, "troubled", cells=5)

    def drained() -> str:
        return str(next(r for r in world.get("/runners") if r["name"] == runner.name)["drained"])

    def ends(troubled: list[bool], name: str) -> None:
        for lease, bad in zip(leased(runner, repo, {"x": name}, len(troubled)), troubled, strict=True):
            runner.finish(lease, None if bad else GREEN, **({"void": "the disk", "machine": True} if bad else {}))
        newest = world.get(f"/projects/{repo.name}/runs")["runs"][0]["number"]
        world.http.post(f"/projects/{repo.name}/runs/{newest}/stop")

    ends([True] * 4 + [False], "four and a good one")
    ends([True] * 4 + [False], "four again")
    assert not drained()
    ends([True] * 5, "five")
    assert "its last 5 attempts went void because of its machine" in drained()
    assert world.http.post(f"/runners/{runner.name}/resume").is_success


@pytest.mark.parametrize(("machine", "waits"), [(True, True), (False, False)])
def test_a_void_attempt_is_tried_again_for_the_machines_sake_only(
    world: Stories, runner: Simulated, machine: bool, waits: bool
) -> None:
    repo = briny(world, f"void-{machine}".lower())
    (lease,) = leased(runner, repo, {"x": "1"})
    runner.finish(lease, None, void="no room", machine=machine)
    (cell,) = world.get(f"/projects/{repo.name}/runs/1")["cells"]
    assert (cell["state"] == "waiting") == waits, cell
    if waits:
        (again,) = runner.claim(1, wait=0)
        runner.finish(again, GREEN)
        assert world.get(f"/projects/{repo.name}/runs/1")["run"]["verdict"] == "clear"
    else:
        assert cell["state"] == "void" and world.get(f"/projects/{repo.name}/runs/1")["run"]["verdict"] == "held"


def test_steps_that_come_with_the_end_stand_beside_those_told_before(world: Stories, runner: Simulated) -> None:
    repo = briny(world, "stepped")
    (lease,) = leased(runner, repo, {"x": "1"})
    step = {"position": 0, "name": "test", "command": "sh", "state": "running", "started_at": "2026-12-01T10:00:00Z"}
    assert runner.tell(lease, "POST", "/steps", json=step).status_code == 204
    ended = {**step, "state": "passed", "exit_status": 0, "ended_at": "2026-12-01T10:00:02Z"}
    phase = {"name": "fetch", "started_at": "2026-12-01T10:00:00Z", "ended_at": "2026-12-01T10:00:01Z"}
    runner.finish(lease, GREEN, steps=[ended], record={"phases": [phase]})
    view = world.get(f"/attempts/{lease['attempt']}")
    assert [(s["state"], s["exit_status"]) for s in view["steps"]] == [("passed", 0)]
    assert view["started_at"] == "2026-12-01T10:00:00Z"
    assert world.get(f"/attempts/{lease['attempt']}/record")["phases"][0]["name"] == "fetch"


def test_an_event_that_comes_twice_at_once_is_taken_once(world: Stories) -> None:
    repo = world.repository("twice-told")
    repo.push()
    repo.git("checkout", "--quiet", "-b", "side")
    repo.commit({"x": "1"})
    repo.push("side")
    event = {
        "specversion": "1.0",
        "id": "7",
        "source": "host",
        "type": "dev.cdevents.change.created.0.3.0",
        "data": {"subject": {"id": "change/7", "content": {"source": "side", "target": "main"}}},
    }
    with ThreadPoolExecutor(6) as threads:
        taken = list(threads.map(lambda _: take_event(world.site, "twice-told", event), range(6)))
    assert sorted(t.repeated for t in taken) == [False, *[True] * 5]
    assert len({t.said for t in taken}) == 1
