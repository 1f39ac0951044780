"""Pull requests of people who may not write here: nothing of theirs runs before a maintainer has looked at it."""

from __future__ import annotations

import hashlib
import hmac
import json
import time
from typing import Any

import httpx

from conftest import Repository, World, junit

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


MAPPING = {
    "number": "/wish/id", "source": "/wish/from", "target": "/wish/to", "title": "/wish/what", "state": "/now",
    "states": {"asked": "open", "done": "merged"}, "may-write": "/wish/ours",
    "proof": {"header": "X-Town", "how": "hmac-sha256", "before": "v1="},
}  # fmt: skip


def test_another_hosts_events_are_read_by_a_mapping_and_believed_with_its_secret_only(world: World) -> None:
    repo = world.repository("town", None)
    repo.pushed({"myriant.toml": PLAN, "a.xml": junit(a="passed")}, "first")
    repo.git("checkout", "-q", "-b", "lamp")
    head = repo.commit({"lamp.txt": "lit"}, "Light the lamp")
    repo.push("lamp")
    repo.run_of(head)
    at = "/projects/town/foreign-events"
    told = {"now": "asked", "wish": {"id": 3, "from": "lamp", "to": "main", "what": "Light the lamp", "ours": False}}
    body = json.dumps(told).encode()

    def send(data: bytes, secret: str = "lamp oil", project: str = "town") -> httpx.Response:
        shown = hmac.new(secret.encode(), data, hashlib.sha256).hexdigest()
        where = f"{world.address}/api/v1/foreign-events?project={project}"
        return httpx.post(where, content=data, headers={"X-Town": f"v1={shown}"}, trust_env=False)

    assert send(body).status_code == 401  # none are taken yet
    tried = world.http.post(f"{at}/try", json={"mapping": json.dumps(MAPPING), "example": json.dumps(told)})
    assert "Pull request 3, lamp into main" in tried.json()["said"] and "maintainer looks at it" in tried.json()["said"]
    for wrong in ({"mapping": "{", "example": "{}"}, {"mapping": json.dumps(MAPPING), "example": "{"}):
        assert world.http.post(f"{at}/try", json=wrong).status_code == 422
    assert world.http.put(at, json={"mapping": json.dumps(MAPPING)}).status_code == 422  # without a secret
    assert world.http.put(at, json={"mapping": json.dumps(MAPPING), "secret": "lamp oil"}).status_code == 204
    assert "lamp oil" not in json.dumps(world.get(at))
    assert send(body, "low water").status_code == 401 and send(body, project="nobody").status_code == 401
    taken = send(body).json()
    assert "waits for a maintainer's word" in taken["said"] and send(body).json()["said"] == taken["said"]
    assert pull_of(world, repo, 3)["asks"] == head
    assert send(b"{").status_code == 422 and send(b'{"wish": {"id": -1}}').status_code == 422
    assert send(b"[1]").json()["said"] == "nothing new in the repository"
    assert send(b"x" * (5 << 20)).status_code == 413
    ours = json.dumps({**told, "wish": {**told["wish"], "ours": True}}).encode()
    first = send(ours).json()
    assert len(first["runs"]) == 1 and send(ours).json() == {
        **first,
        "said": send(ours).json()["said"],
        "runs": [],
        "repeated": True,
    }
    done = json.dumps({**told, "now": "done"}).encode()
    assert "merged" in send(done).json()["said"]
    assert len(send(ours).json()["runs"]) == 1  # opened again, in the very same words
    assert "merged" in send(done).json()["said"]
    assert world.http.put(at, json={"mapping": ""}).status_code == 204 and send(body).status_code == 401
