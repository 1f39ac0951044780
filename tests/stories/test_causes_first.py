"""What follows from a cause stands under it: a sentence names causes first, each once, with how many cells."""

from __future__ import annotations

import pytest

from inprocess import Stories, StoryRepository
from worlds import junit, writes

HEAD = "version = 1\n\n[events]\npush = {}\n"
JOB = """
[jobs.{job}]
title   = "{job}"
vary    = {{ lua = ["5.1", "5.2", "5.3", "5.4"] }}
runtime = ["lua"]
{more}
[[jobs.{job}.steps]]
name    = "build"
command = "sh build.sh"

[[jobs.{job}.steps]]
name    = "test"
command = "sh test.sh"
collect = {{ tests = ["out/*.xml"] }}
"""
PLAN = HEAD + JOB.format(job="unit", more="") + JOB.format(job="further", more='after = ["unit"]')
GREEN, RED = writes(junit(a="passed", b="passed")), writes(junit(a="passed", b="expected 1, got 2"), status=1)


@pytest.fixture(scope="module")
def repo(world: Stories) -> StoryRepository:
    made = world.repository("causes", None)
    made.pushed({"myriant.toml": PLAN, "build.sh": "true\n", "test.sh": GREEN})
    return made


@pytest.mark.parametrize(
    ("files", "said", "untrusted", "steps"),
    [
        (
            {"build.sh": "exit 2\n"},
            "Held: step build failed, and no test says why (all 4 cells of unit); so further did not run. 4 of",
            0,
            4,
        ),
        (
            {"build.sh": "nosuchprogram\n"},
            "Held: step build failed: a program of the command was not found (all 4 cells of unit); so further did not",
            0,
            4,
        ),
        (
            {"test.sh": "exit 3\n"},
            "Held: step test failed, and no test says why (all 4 cells of unit); so further did not run. 0 of",
            0,
            4,
        ),
        ({"test.sh": RED}, "Held: 1 test newly fails; so further did not run. 4 of 8", 0, 0),
        (
            {"test.sh": f"[ $MYRIANT_CELL_LUA != 5.1 ] || exit 3\n{GREEN}"},
            "Held: step test failed, and no test says why (unit lua=5.1); so further did not run. 3 of 8",
            0,
            1,
        ),
        (
            {"test.sh": f"case $MYRIANT_CELL_LUA in 5.1|5.2) exit 3;; esac\n{GREEN}"},
            "Held: step test failed, and no test says why (2 of 4 cells of unit: lua=5.1, lua=5.2); so further",
            0,
            2,
        ),
        (  # what a crash leaves out is told with it
            {"test.sh": f"[ $MYRIANT_CELL_LUA != 5.1 ] || kill -11 $$\n{GREEN}"},
            "Held: no trustworthy result: step test crashed by SIGSEGV (unit lua=5.1); so further",
            1,
            0,
        ),
        ({"myriant.toml": HEAD + JOB.format(job="unit", more="").replace("b.xml", "")}, "job further is gone", 0, 0),
    ],
)
def test_a_sentence_names_causes_once_and_counts_nothing_that_follows(
    repo: StoryRepository, files: dict[str, str | None], said: str, untrusted: int, steps: int
) -> None:
    run = repo.pushed(files)
    back = repo.pushed({"myriant.toml": PLAN, "build.sh": "true\n", "test.sh": GREEN})
    judged = {j["built_in"]: int(j["value"]) for j in run["judged"] if j["built_in"]}
    [trusted] = [j for j in run["judged"] if j["built_in"] == "void"]
    silent = sum(c["state"] in ("void", "skipped") for c in run["cells"])
    # what follows is no reason of its own, and yet nobody reads that every cell has a result
    assert untrusted or trusted["reason"].startswith(f"{silent} cells gave none" if silent else "")
    assert said in run["run"]["sentence"], run["run"]["sentence"]
    assert (judged["void"], judged["failed-steps"], judged["vanished"]) == (untrusted, steps, 0)
    assert "vanished" not in run["run"]["sentence"] and back["run"]["verdict"] == "clear"


def test_what_follows_counts_where_no_cause_holds_the_run(world: Stories) -> None:
    """Failed steps only warn by this plan: what they kept from running is no pass."""
    repo = world.repository("no-cause", None)
    plan = PLAN + '\n[gate]\nfailed-steps = "warn"\nvanished = "warn"\n'
    assert repo.pushed({"myriant.toml": plan, "build.sh": "true\n", "test.sh": GREEN})["run"]["verdict"] == "clear"
    run = repo.pushed({"build.sh": "exit 2\n"})["run"]
    assert run["verdict"] == "held" and "further" in run["sentence"], run["sentence"]
