"""The workbench over HTTP: what a text means, and saving it, with the refusals a person needs to read."""

from __future__ import annotations

import subprocess
from typing import Any

import pytest

from worlds import PLAN, Repository, World, junit, writes

GREEN = writes(junit(level="passed"))


@pytest.fixture(scope="module")
def bench(world: World) -> Repository:
    return world.repository("bench", PLAN, test__sh=GREEN)


def meaning(world: World, text: str, event: dict[str, Any] | None = None) -> dict[str, Any]:
    answer = world.http.post("/projects/bench/plan/meaning", json={"text": text, "event": event})
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = answer.json()
    return found


@pytest.mark.parametrize(
    ("text", "usable", "problems", "said"),
    [
        (PLAN, True, 0, "A push to main runs 2 cells of 1 job; about "),
        ("", False, 2, None),
        ("\ud800".encode("utf-8", "surrogatepass").decode("utf-8", "replace"), False, 2, None),
        (PLAN.replace("runtime", "runtme"), False, 1, None),
        (PLAN.replace('"5.4"', '"5.9"'), True, 1, "A push to main runs 2 cells of 1 job"),
        (PLAN.replace("[jobs", "[events]\ntag = {}\n[jobs", 1), True, 0, "The tag v1 runs 2 cells of 1 job"),
        (PLAN.replace("sh test.sh", "./tools/run.sh"), True, 1, "A push to main runs"),
    ],
)
def test_a_text_means_this(
    world: World, bench: Repository, text: str, usable: bool, problems: int, said: str | None
) -> None:
    found = meaning(world, text)
    assert (found["usable"], len(found["problems"])) == (usable, problems), found["problems"]
    assert found["rehearsal"] is None if said is None else found["rehearsal"]["sentence"].startswith(said)
    assert all(p["mend"] and p["line"] >= 1 for p in found["problems"])


@pytest.mark.parametrize(
    ("text", "loosened"),
    [
        (PLAN, []),
        (PLAN + '\n[gate]\nvanished = "warn"\n', ["the built-in rule vanished only warns"]),
        (PLAN.replace('["5.1", "5.4"]', '["5.4"]'), ["job unit: 1 cell gone (lua=5.1)"]),
        (PLAN.replace("[jobs.unit", "[jobs.other"), ["job unit is gone"]),
        ("version = 1\n[jobs", []),  # what cannot be used is no plan
    ],
)
def test_what_a_draft_asks_less_is_said_before_it_is_saved(
    world: World, bench: Repository, text: str, loosened: list[str]
) -> None:
    assert meaning(world, text)["loosened"] == loosened


def test_cells_say_who_can_serve_them_and_how_long_they_take(world: World, bench: Repository) -> None:
    found = meaning(
        world, PLAN.replace('"5.4"]', '"5.4", "5.9"]').replace("runtime", 'drop = [{ lua = "5.1" }]\nruntime')
    )
    job = found["rehearsal"]["jobs"][0]
    states = {c["key"]: (c["state"], bool(c["runners"]), c["lacks"]) for c in job["cells"]}
    assert states == {
        "lua=5.4": ("selected", True, ""),
        "lua=5.9": ("selected", False, "no runner offers lua 5.9"),
        "lua=5.1": ("dropped", False, ""),
    }
    known = next(c for c in job["cells"] if c["key"] == "lua=5.4")
    assert 0 < known["seconds"] < 30 and found["rehearsal"]["forecast"]["known"] == 2
    assert [line for line in found["difference"] if line.startswith("+")] == [
        "+++ as it is here",
        '+vary    = { lua = ["5.1", "5.4", "5.9"] }',
        '+drop = [{ lua = "5.1" }]',
    ]
    wrong = world.http.post("/projects/bench/plan/meaning", json={"text": PLAN, "event": {"kind": "full-moon"}})
    assert wrong.status_code == 422 and "there is no event full-moon" in wrong.json()["detail"]


def test_saving_refuses_what_would_lose_something_and_says_what_to_do(world: World, bench: Repository) -> None:
    standing = world.get("/projects/bench/plan")
    head = standing["commit"]
    changed = PLAN + "# changed\n"

    def save(**wish: Any) -> Any:
        return world.http.post(
            "/projects/bench/plan/commits",
            json={"text": changed, "branch": "main", "message": "Change it", "start": False, "expected": head, **wish},
        )

    for wish, why in (
        ({"expected": "1" * 40}, "main has moved to"),
        ({"text": PLAN}, "has this very plan already"),
        ({"branch": "a b"}, "cannot be the name of a branch"),
        ({"branch": "--force"}, "cannot be the name"),
        ({"branch": "a..b"}, "cannot be the name"),
        ({"text": "version = 2", "start": True}, "the plan has problems"),
    ):
        refused = save(**wish)
        assert refused.status_code in (409, 422) and why in refused.json()["detail"] and refused.json()["mend"], (
            refused.text
        )
    assert world.get("/projects/bench/plan")["commit"] == head
    aside = save(branch="plan/try", message="Try 'it'\n\nwith <two> lines").json()
    assert (aside["runs"], aside["said"]) == ([], "nothing was started")
    log = subprocess.run(
        ["git", "-C", str(bench.origin), "log", "-1", "--format=%P|%an|%B", "plan/try"],
        capture_output=True,
        text=True,
        check=True,
    )
    assert log.stdout.strip() == f"{head}|admin|Try 'it'\n\nwith <two> lines"
    files = subprocess.run(
        ["git", "-C", str(bench.origin), "ls-tree", "--name-only", "plan/try"],
        capture_output=True,
        text=True,
        check=True,
    )
    assert files.stdout.split() == ["myriant.toml", "test.sh"]
    for wish, why in (({"branch": "main"}, "into itself"),):
        refused = save(ask=True, **wish)
        assert refused.status_code == 422 and why in refused.text
    opened = save(branch="plan/asked", message="Ask for it", ask=True, start=True).json()
    pulls = world.get("/projects/bench/pull-requests")["pulls"]
    assert [(p["source"], p["target"], p["title"]) for p in pulls] == [("plan/asked", "main", "Ask for it")]
    assert pulls[0]["newest"]["number"] in opened["runs"] and pulls[0]["number"] == 1
    assert world.http.patch("/projects/bench", json={"pull_refs": "refs/changes/*/head"}).is_success
    at_host = save(branch="plan/other", ask=True)
    assert at_host.status_code == 409 and "at the repository's host" in at_host.text
    assert world.http.patch("/projects/bench", json={"pull_refs": ""}).is_success
    begun = save(start=True).json()
    assert bench.run_of(begun["commit"])["run"]["number"] == begun["runs"][0]


@pytest.mark.parametrize(
    ("address", "why", "mend"),
    [
        ("/nowhere/at/all.git", "cannot be read as a git repository", "path or address written right"),
        ("/etc", "cannot be read as a git repository", "path or address written right"),
        ("http://127.0.0.1:9/x.git", "cannot be read", "server's machine reach it"),
        ("--upload-pack=touch /tmp/x", "cannot begin with a hyphen", "git can fetch"),
        ("ext::sh -c true", "cannot be read", ""),
    ],
)
def test_a_repository_that_cannot_be_read_is_refused_with_the_reason(
    world: World, address: str, why: str, mend: str
) -> None:
    refused = world.http.post("/repositories/look", json={"address": address})
    assert refused.status_code == 422 and why in refused.json()["detail"] and mend in refused.json()["mend"]


def test_an_empty_repository_is_looked_at_and_its_proposals_are_none(world: World) -> None:
    repo = world.repository("bare-one", None)
    looked = world.http.post("/repositories/look", json={"address": str(repo.origin)}).json()
    assert looked["empty"] and looked["hookable"] and looked["name"] == "bare-one"
    assert world.get("/projects/bare-one/proposals") == {"detected": [], "proposals": [], "files": 0, "misplaced": ""}
    assert world.get("/projects/bare-one/coming")["next_push"] == ""
