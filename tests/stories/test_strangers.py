"""Pull requests of people who may not write here: nothing of theirs runs before a maintainer has looked at it."""

from __future__ import annotations

import time
from typing import Any

from worlds import Repository, World, junit

PLAN = """version = 1
[jobs.unit]
cache = [{ name = "reference", keep = ["kept"], renew-on = ["a.xml"] }]
[[jobs.unit.steps]]
command = "mkdir -p out kept; date > kept/when; cp a.xml out/"
collect = { tests = ["out/a.xml"] }
[jobs.secret]
secrets = ["TIDE_KEY"]
[[jobs.secret.steps]]
command = "true"
"""


def pull_of(world: World, repo: Repository, number: int) -> dict[str, Any]:
    found = world.get(f"/projects/{repo.name}/pull-requests")["pulls"]
    return next(dict(p) for p in found if p["number"] == number)


def looked(world: World, repo: Repository, ref: str) -> str:
    """Push the head to a ref and have the repository looked at; the head."""
    repo.git("push", "-q", "-f", "origin", f"HEAD:{ref}")
    head = repo.git("rev-parse", "HEAD").strip()
    end = time.monotonic() + 60
    while not any(p["asks"] == head for p in world.get(f"/projects/{repo.name}/pull-requests")["pulls"]):
        assert time.monotonic() < end, world.get(f"/projects/{repo.name}/pull-requests")
        time.sleep(0.1)
    return head


def test_a_strangers_pull_request_runs_at_the_head_that_was_looked_at_and_at_no_other(world: World) -> None:
    repo = world.repository("open", None)
    kept = world.http.put(
        "/projects/open/secrets/TIDE_KEY", json={"value": "opensesame", "events": ["push", "pull-request"]}
    )
    assert kept.status_code < 300, kept.text
    first = repo.pushed({"myriant.toml": PLAN, "a.xml": junit(a="passed")}, "first")["run"]
    assert first["verdict"] == "clear", first["sentence"]
    world.http.patch("/projects/open", json={"pull_refs": "refs/changes/*/head", "pull_strangers": True})
    repo.git("checkout", "-q", "-b", "theirs")
    repo.commit({"a.xml": junit(a="passed", b="passed")}, "From afar")
    head = looked(world, repo, "refs/changes/7/head")
    assert world.word(head, "open") is None or world.word(head, "open")["run"] is None  # type: ignore[index]
    pull = pull_of(world, repo, 7)
    assert (pull["asks"], pull["mergeable"], pull["newest"]) == (head, False, None)
    assert [(s["project"], s["number"], s["head"]) for s in world.get("/desk")["strangers"]] == [("open", 7, head)]
    at = "/projects/open/pull-requests/7"
    for again in (world.http.post(f"{at}/runs"), world.http.put(at, json={"title": "Please"})):
        assert again.status_code != 201 or again.json()["runs"] == []
    assert pull_of(world, repo, 7)["newest"] is None
    wrong = world.http.post(f"{at}/word", json={"head": first["commit"]})
    assert wrong.status_code == 409 and "look at what it is now" in wrong.json()["mend"]
    [number] = world.http.post(f"{at}/word", json={"head": head}).json()["runs"]
    run = repo.run_of(head)
    assert run["run"]["number"] == number and "is not given to a stranger's pull request" in run["run"]["sentence"]
    assert {c["scope"] for c in world.get("/projects/open/caches")} <= {"branch main"}
    # what comes after it is looked at anew
    repo.commit({"a.xml": junit(a="passed", b="passed", c="passed")}, "And more")
    later = looked(world, repo, "refs/changes/7/head")
    assert pull_of(world, repo, 7)["asks"] == later and pull_of(world, repo, 7)["newest"]["number"] == number
    # one who turns out to belong here waits no more
    made = world.http.put(at, json={"trusted": True}).json()
    assert len(made["runs"]) == 1 and pull_of(world, repo, 7)["asks"] == "" and world.get("/desk")["strangers"] == []
    assert repo.run_of(later)["run"]["verdict"] == "clear"
    assert [line["said"] for line in world.get("/projects/open/audit") if line["what"] == "let run"] == [
        f"pull request 7 at {head[:12]}"
    ]
