"""A change cannot loosen its own gate, however it comes in."""

from __future__ import annotations

from typing import Any

import pytest

from inprocess import Stories
from worlds import junit, writes

HEAD = "version = 1\n\n[events]\npush = {}\npull-request = {}\n\n"
UNIT = """[jobs.unit]
title = "Unit"
{lint}
[[jobs.unit.steps]]
name    = "test"
command = "sh test.sh"
collect = {{ tests = ["out/unit.xml"] }}

"""
LINT = '\n[[jobs.unit.steps]]\nname    = "lint"\ncommand = "sh lint.sh"\n'
EXTRA = (
    UNIT.format(lint="").replace("unit]", "extra]").replace("jobs.unit", "jobs.extra").replace("test.sh", "extra.sh")
)
GREEN, RED = writes(junit(a="passed", b="passed")), writes(junit(a="passed", b="gone bad"), status=1)
WITH_LINT, WITHOUT = HEAD + UNIT.format(lint=LINT), HEAD + UNIT.format(lint="")
Push = dict[str, str | None]


@pytest.mark.parametrize(
    ("name", "pushes", "words"),
    [
        (  # before the branch was ever clear
            "never-clear",
            [
                {"myriant.toml": HEAD + UNIT.format(lint="") + EXTRA, "test.sh": GREEN, "extra.sh": RED},
                {"myriant.toml": WITHOUT},
            ],
            "job extra is gone",
        ),
        (
            "lint-out",
            [
                {"myriant.toml": WITH_LINT, "lint.sh": "true", "test.sh": GREEN},
                {"myriant.toml": WITHOUT, "lint.sh": "false"},
            ],
            "step lint is gone",
        ),
        (
            "lint-deaf",
            [
                {"myriant.toml": WITH_LINT, "lint.sh": "true", "test.sh": GREEN},
                {"myriant.toml": WITH_LINT.replace("sh lint.sh", "sh lint.sh || true"), "lint.sh": "false"},
            ],
            "step lint cannot fail any more",
        ),
        *(
            (
                f"lint-{n}",
                [
                    {"myriant.toml": WITH_LINT, "lint.sh": "true", "test.sh": GREEN},
                    {"myriant.toml": WITH_LINT.replace("sh lint.sh", command), "lint.sh": "false"},
                ],
                "step lint cannot fail any more",
            )
            for n, command in enumerate(["true", "sh lint.sh | cat", "echo all is well; true"])
        ),
        (  # a step that has another name, or stands within another, is there still
            "lint-renamed",
            [
                {"myriant.toml": WITH_LINT, "lint.sh": "true", "test.sh": GREEN},
                {"myriant.toml": WITH_LINT.replace('"lint"', '"style"')},
                {"myriant.toml": WITHOUT.replace("sh test.sh", "sh lint.sh && sh test.sh")},
            ],
            "",
        ),
    ],
)
def test_a_push_is_held_for_what_its_plan_asks_less(world: Stories, name: str, pushes: list[Push], words: str) -> None:
    repo = world.repository(name, None)
    run: dict[str, Any] = {}
    for files in pushes:
        run = repo.pushed(files)
    assert run["run"]["verdict"] == ("held" if words else "clear"), run["run"]["sentence"]
    assert any(words in line for line in run["acceptable"]["loosened"]) if words else True, run["acceptable"]
    again = repo.pushed({"README": "words"})  # nor is it forgotten by the next push
    assert again["run"]["verdict"] == run["run"]["verdict"]


def test_a_pull_request_that_takes_a_lint_step_out_is_held(world: Stories) -> None:
    repo = world.repository("lint-pull", None)
    repo.pushed({"myriant.toml": WITH_LINT, "lint.sh": "true", "test.sh": GREEN})
    repo.git("checkout", "-q", "-b", "topic")
    commit = repo.commit({"myriant.toml": WITHOUT, "lint.sh": "false"})
    repo.push("topic")
    wish = {"source": "topic", "target": "main", "state": "open"}
    answer = world.http.put("/projects/lint-pull/pull-requests/7", json=wish)
    assert answer.is_success, answer.text
    found = world.word(commit, "lint-pull", "pull-request 7")
    assert found is not None and found["verdict"] == "held" and "lint" in found["sentence"], found


@pytest.mark.parametrize("merged", ["ours", "theirs"])
def test_a_merge_the_wrong_way_round_loses_nothing_unsaid(world: Stories, merged: str) -> None:
    """A topic merges main, and main is moved to it: main's former head is no first parent any more."""
    name = f"wrong-way-{merged}"
    repo = world.repository(name, None)
    repo.pushed({"myriant.toml": WITHOUT, "test.sh": GREEN})
    repo.git("checkout", "-q", "-b", "topic")
    repo.commit({"notes": "topic"})
    repo.push("topic")
    repo.git("checkout", "-q", "main")
    more = {
        "myriant.toml": WITHOUT + EXTRA,
        "extra.sh": GREEN,
        "test.sh": writes(junit(a="passed", b="passed", c="passed")),
    }
    assert repo.pushed(more)["run"]["verdict"] == "clear"
    repo.git("checkout", "-q", "topic")
    repo.git("merge", "-q", "--no-edit", *(["-s", "ours"] if merged == "ours" else []), "main")
    repo.push("topic")
    repo.git("checkout", "-q", "main")
    repo.git("merge", "-q", "--ff-only", "topic")
    commit = repo.git("rev-parse", "HEAD").strip()
    repo.push()
    run = repo.run_of(commit)
    found = world.word(commit, name, "push main")
    assert found is not None
    if merged == "theirs":
        assert found["verdict"] == "clear", found["sentence"]
        return
    run = world.get(f"/projects/{name}/runs/{found['run']}")
    assert found["verdict"] == "held", found["sentence"]
    assert "job extra is gone" in run["acceptable"]["loosened"]
    assert "1 test removed with its source" in found["sentence"], found["sentence"]
    again = repo.pushed({"README": "words"})
    assert again["run"]["verdict"] == "held", again["run"]["sentence"]
    wish = {"reason": "it is of no use", "loosened": again["acceptable"]["loosened"]}
    number = again["run"]["number"]
    assert world.http.post(f"/projects/{name}/runs/{number}/acceptances", json=wish).status_code == 201
    assert repo.pushed({"README": "more"})["run"]["verdict"] == "clear"
