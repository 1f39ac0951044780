"""Pull requests of people who may not write here: nothing of theirs runs before a maintainer has looked at it."""

from __future__ import annotations

import hashlib
import hmac
import json
import time
from typing import Any

import httpx

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


MAPPING = {
    "number": "/wish/id",
    "source": "/wish/from",
    "target": "/wish/to",
    "title": "/wish/what",
    "state": "/now",
    "states": {"asked": "open", "done": "merged"},
    "may-write": "/wish/ours",
    "proof": {"header": "X-Town", "how": "hmac-sha256", "before": "v1="},
}


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
