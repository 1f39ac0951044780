"""Faults that lie over one another, and failures by chance: what is said of each is so, or is not said."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from inprocess import Stories, StoryRepository
from worlds import junit, writes

PLAN = """version = 1

[events]
push = {}

[jobs.unit]
vary    = { lua = ["5.1", "5.2", "5.3", "5.4"], tide = ["ebb", "flood"] }
runtime = ["lua"]

[[jobs.unit.steps]]
name    = "test"
command = "sh test.sh"
collect = { tests = ["out/*.xml"] }
"""
ADRIFT, SHUT = "the gauge is adrift by seven", "no gate may open so early"
TESTS = ["t1", "t2", "t3", "t4", "t5", "t6", "t7"]


def told(**failing: str) -> str:
    return junit(**{t: failing.get(t, "passed") for t in TESTS})


OLD = dict.fromkeys(["t1", "t2", "t3", "t4", "t5"], ADRIFT)  # only where lua=5.1
EVERYWHERE = dict.fromkeys(["t4", "t5", "t6"], SHUT)
OLD_ONLY = f"if [ $MYRIANT_CELL_LUA = 5.1 ]; then\n{writes(told(**OLD), status=1)}else\n{writes(told())}fi\n"
BOTH = (
    f"if [ $MYRIANT_CELL_LUA = 5.1 ]; then\n{writes(told(**{**EVERYWHERE, **OLD}), status=1)}"
    f"else\n{writes(told(**EVERYWHERE), status=1)}fi\n"
)


@pytest.fixture(scope="module")
def both(world: Stories) -> tuple[StoryRepository, dict[str, Any], list[str]]:
    """A fault of one version, and above it one of all that hides a part of it."""
    repo = world.repository("overlapping", PLAN, test__sh=writes(told()))
    commits = [repo.pushed({"test.sh": s})["run"]["commit"] for s in (OLD_ONLY,)]
    run = repo.pushed({"test.sh": BOTH})
    return repo, run, [*commits, run["run"]["commit"]]


def by_message(found: dict[str, Any]) -> dict[str, dict[str, Any]]:
    return {f["message"]: f for f in found["findings"]}


def test_a_fault_of_one_version_is_told_so_where_another_hides_it(
    both: tuple[StoryRepository, dict[str, Any], list[str]],
) -> None:
    repo, run, _ = both
    found = by_message(repo.findings(run))
    assert {m: (f["where"], f["missed"], len(f["tests"]), len(f["cells"])) for m, f in found.items()} == {
        ADRIFT: ("lua=5.1", 0, 5, 2),
        SHUT: (None, 0, 3, 8),
    }
    assert found[ADRIFT]["ran_in"] == 8 and found[ADRIFT]["silent"] == []


def test_while_cells_are_open_nothing_is_only_where(world: Stories) -> None:
    sixteen = PLAN.replace('"ebb", "flood"', '"ebb", "flood", "slack", "spring"')
    repo = world.repository("open-cells", sixteen, test__sh=writes(told()))
    with world.nobody_working():
        commit = repo.commit({"test.sh": OLD_ONLY})
        repo.push()
        world.runner.work(15)
        world.settle()
        run = repo.run_of(commit, until="begun")
        assert sorted(c["state"] for c in run["cells"])[-1] == "waiting"
        [early] = repo.findings(run)["findings"]
    [late] = repo.findings(repo.run_of(commit))["findings"]
    assert [(f["where"], f["where_sure"]) for f in (early, late)] == [("lua=5.1", False), ("lua=5.1", True)]


@pytest.mark.parametrize(("message", "versions", "since"), [(ADRIFT, {"5.1"}, 2), (SHUT, {"5.2", "5.3", "5.4"}, 1)])
def test_what_changed_and_the_search_are_of_the_cells_of_the_finding(
    world: Stories,
    both: tuple[StoryRepository, dict[str, Any], list[str]],
    message: str,
    versions: set[str],
    since: int,
) -> None:
    """A test that fails by both: its cell, and the commits since it passed there, are each fault's own."""
    repo, run, commits = both
    finding = by_message(repo.findings(run))[message]
    [test] = [t["test"] for t in finding["tests"] if "t4" in t["title"]]
    path = f"/projects/{repo.name}/runs/{run['run']['number']}/tests/{test}"
    changed, search = (world.get(f"{path}/{what}", finding=finding["id"]) for what in ("changes", "search"))
    for view in (changed, search):
        assert view["key"].partition(",")[0].removeprefix("lua=") in versions, view
        assert {c["commit"] for c in view["commits"]} == set(commits[-since:])


def test_what_is_fixed_is_counted_alike_in_the_sentence_and_below(world: Stories) -> None:
    """A test that passes again in one cell and goes on failing in another is not fixed."""
    red = writes(told(t1=SHUT, t2=SHUT), status=1)
    still = f"if [ $MYRIANT_CELL_LUA = 5.4 ]; then\n{writes(told(t1=SHUT), status=1)}else\n{writes(told())}fi\n"
    repo = world.repository("half-fixed", PLAN, test__sh=red)
    run = repo.pushed({"test.sh": still})
    assert "1 test fixed" in run["run"]["sentence"], run["run"]["sentence"]
    assert repo.findings(run)["fixed"] == 1


def test_what_passed_when_it_was_tried_again_broke_nothing(world: Stories) -> None:
    """One test breaks, and beside it another fails once and passes at the second try: one break."""
    plan = PLAN.replace('runtime = ["lua"]', 'runtime = ["lua"]\nretry = { tests = 1 }')
    red = writes(told(t1=SHUT, t7=ADRIFT), status=1) + "exit 1\n"
    old = f"if [ ! -e tried ]; then touch tried\n{red}fi\n{writes(told(t1=SHUT), status=1)}"
    repo = world.repository("tried-again", plan, test__sh=writes(told()))
    run = repo.pushed({"test.sh": f"if [ $MYRIANT_CELL_LUA = 5.1 ]; then\n{old}else\n{writes(told())}fi\n"})
    assert [(c["key"], c["flaky"]) for c in run["cells"] if c["flaky"]] == [
        ("lua=5.1,tide=ebb", 1),
        ("lua=5.1,tide=flood", 1),
    ]
    rows = {r["title"]: r["now"] for r in world.get(f"/projects/{repo.name}/report", days=7)["rows"]}
    assert rows["Tests that broke"] == "1", rows


def test_a_version_found_nothing_by_chance_and_one_break_once(world: Stories, tmp_path: Path) -> None:
    chance = tmp_path / "chance"
    odd = f"if [ -e {chance} ] && [ $MYRIANT_CELL_LUA = 5.1 ]; then\n{writes(told(t7=ADRIFT), status=1)}else\n{writes(told())}fi\n"
    repo = world.repository("by-chance", PLAN, test__sh=odd)
    for n in range(8):
        (chance.touch if n % 2 else chance.unlink)(**({} if n % 2 else {"missing_ok": True}))
        repo.pushed({"n": str(n)})
    chance.unlink()
    broken = f"if [ $MYRIANT_CELL_LUA = 5.4 ]; then\n{writes(told(t1=SHUT), status=1)}else\n{writes(told())}fi\n"
    for n in range(3):
        repo.pushed({"test.sh": broken, "n": f"broken {n}"})
    repo.pushed({"test.sh": odd, "n": "mended"})
    lines = world.get(f"/projects/{repo.name}/versions")["lines"]
    records = {r["record"]["value"]: r["record"] for r in lines if r["record"]["dimension"] == "lua"}
    assert {v: (r["failed"], r["alone"]) for v, r in records.items()} == {
        "5.1": (0, 0),
        "5.2": (0, 0),
        "5.3": (0, 0),
        "5.4": (1, 1),
    }
    assert records["5.4"]["breaks"] == 1
