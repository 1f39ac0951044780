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
RED = writes(junit(opens="expected open", shuts="passed"), status=1)


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


def ended(repo: Repository, number: int) -> dict[str, Any]:
    def there() -> dict[str, Any] | None:
        batches = repo.world.get(f"/projects/{repo.name}/pull-requests")["batches"]
        found: dict[str, Any] = next(b for b in batches if b["number"] == number)
        return found if found["state"] != "testing" else None

    return dict(until(there))


@pytest.fixture(scope="module")
def repo(world: World) -> Repository:
    made = world.repository("together", PLAN, test__sh=GREEN, shared__txt="one\n")
    assert world.http.patch("/projects/together", json={"pull_refs": "refs/changes/*/head"}).is_success
    return made


def test_what_conflicts_is_left_out_what_flickers_is_not_blamed_and_the_rest_is_merged(repo: Repository) -> None:
    flicker = 'if [ "$MYRIANT_ATTEMPT" = 1 ]; then\n' + RED + "fi\n" + GREEN  # fails at each first attempt
    heads = {
        1: change(repo, 1, {"a.txt": "a"}),
        2: change(repo, 2, {"shared.txt": "two\n"}),
        3: change(repo, 3, {"shared.txt": "three\n"}),
        4: change(repo, 4, {"test.sh": flicker}),
        5: change(repo, 5, {"b.txt": "b"}),
    }
    for head in heads.values():
        repo.run_of(head)
    number = together(repo, [5, 4, 3, 2, 1], merge=True)
    done = ended(repo, number)
    states = {p["number"]: (p["state"], p["why"]) for p in done["pulls"]}
    assert {n: s for n, (s, _) in states.items()} == {5: "in", 4: "in", 3: "in", 2: "out", 1: "in"}, done
    assert "conflicts in shared.txt" in states[2][1] and "upon 5, 4 and 3" in states[2][1]
    assert done["said"].startswith("5, 4, 3 and 1 are clear together") and "Merged into main as" in done["said"]
    main = repo.git("ls-remote", "origin", "refs/heads/main").split()[0]
    assert main == done["merged"]
    repo.git("fetch", "--quiet", "origin")
    titles = repo.git("log", "--format=%s", "--first-parent", "-4", main).splitlines()
    assert [t.split(":")[0] for t in titles] == [f"Merge pull request {n}" for n in (1, 3, 4, 5)]
    view = repo.run_of(main)
    assert view["run"]["verdict"] == "clear" and "ame content" in view["run"]["sentence"]


def test_when_every_one_conflicts_the_first_is_tested_and_when_it_is_stopped_nothing_is_said(repo: Repository) -> None:
    repo.git("fetch", "--quiet", "origin")
    repo.git("checkout", "--quiet", "-B", "main", "origin/main")
    repo.pushed({"test.sh": GREEN}, "No flicker any more")
    repo.git("fetch", "--quiet", "origin")
    for number in (11, 12, 13):
        repo.run_of(change(repo, number, {"other.txt": f"{number}\n"}))
    done = ended(repo, together(repo, [13, 12, 11]))
    assert [p["state"] for p in done["pulls"]] == ["in", "out", "out"] and done["said"].startswith("13 is clear (#")
    assert done["merged"] == "" and "conflicts in other.txt" in done["said"]

    head = change(repo, 14, {"test.sh": "sleep 600\n"})
    until(lambda: repo.world.word(head, "together"))
    number = together(repo, [13, 14])
    assert repo.world.http.delete(f"/projects/together/batches/{number}").status_code == 204
    stopped = ended(repo, number)
    assert stopped["state"] == "stopped" and stopped["said"].startswith("Stopped by") and stopped["merged"] == ""
    runs = until(
        lambda: (
            (r := ended(repo, number)["runs"])
            and all(repo.world.get(f"/projects/together/runs/{x['number']}")["run"]["ended_at"] for x in r)
            and r
        )
    )
    assert len(runs) == 1
    open_run = next(p for p in repo.world.get("/projects/together/pull-requests")["pulls"] if p["number"] == 14)[
        "newest"
    ]
    repo.world.http.post(f"/projects/together/runs/{open_run['number']}/stop")
    over = [f":refs/changes/{number}/head" for number in (1, 2, 3, 4, 5, 11, 12, 13, 14)]
    repo.git("push", "--quiet", "origin", *over)
    until(lambda: repo.world.get("/projects/together/pull-requests")["pulls"] == [])
