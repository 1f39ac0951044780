"""Pull requests tested together, found as plain refs: what is clear is merged where that was asked for."""

from __future__ import annotations

from typing import Any

import pytest

from waiting import until
from worlds import Repository, World, junit, writes

PLAN = """version = 1
[jobs.unit]
runtime = ["lua"]
vary = { lua = ["5.4"] }
[[jobs.unit.steps]]
name = "test"
command = "sh test.sh"
collect = { tests = ["out/unit.xml"] }
"""
GREEN = writes(junit(opens="passed", shuts="passed"))


def change(repo: Repository, number: int, files: dict[str, str | None]) -> str:
    """A pull request as a ref, upon main."""
    repo.git("checkout", "--quiet", "-B", f"work-{number}", "origin/main")
    head = repo.commit(files, f"Change {number}")
    repo.git("push", "--quiet", "--force", "origin", f"HEAD:refs/changes/{number}/head")
    return head


def together(repo: Repository, pulls: list[int], **wish: Any) -> int:
    answer = repo.world.http.post(f"/projects/{repo.name}/batches", json={"pulls": pulls, **wish})
    assert answer.status_code == 201, answer.text
    return int(answer.json()["number"])


@pytest.fixture(scope="module")
def repo(world: World) -> Repository:
    made = world.repository("together", PLAN, test__sh=GREEN, shared__txt="one\n")
    assert world.http.patch("/projects/together", json={"pull_refs": "refs/changes/*/head"}).is_success
    return made


@pytest.mark.parametrize(
    ("pulls", "status", "said"),
    [
        ([1], 422, ""),
        ([1, 1], 422, "different"),
        ([999, 1000], 422, "no open pull request 999"),
        (list(range(1, 30)), 422, ""),
    ],
)
def test_what_cannot_be_tested_together_is_refused(repo: Repository, pulls: list[int], status: int, said: str) -> None:
    answer = repo.world.http.post("/projects/together/batches", json={"pulls": pulls})
    assert answer.status_code == status and said in answer.text, answer.text


def test_pull_requests_are_tested_anew_when_their_target_moves_if_that_is_wanted(repo: Repository) -> None:
    repo.git("fetch", "--quiet", "origin")
    head = change(repo, 21, {"c.txt": "c"})
    repo.run_of(head)
    assert repo.world.http.patch("/projects/together", json={"pull_refresh": "now and then"}).status_code == 422
    assert repo.world.http.patch("/projects/together", json={"pull_refresh": "at once"}).is_success
    repo.git("checkout", "--quiet", "-B", "main", "origin/main")
    main = repo.commit({"d.txt": "d"}, "Move on")
    repo.push()
    repo.run_of(main)

    def line() -> dict[str, Any]:
        pulls = repo.world.get("/projects/together/pull-requests")["pulls"]
        return dict(next(p for p in pulls if p["number"] == 21))

    fresh = until(lambda: (found := line())["mergeable"] and found)
    assert not fresh["stale"] and len(fresh["heads"]) == 2
    assert repo.world.http.patch("/projects/together", json={"pull_refresh": ""}).is_success
