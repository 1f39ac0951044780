"""The demo: its history tells its story through the ordinary path, and its pushes really run."""

from __future__ import annotations

import random
import shutil
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest

from myriant.core.results.junit import read_junit
from myriant.demo import lockstep_past
from myriant.demo.load import load_demo
from myriant.demo.reports import cases_of
from myriant.demo.scenario import push
from myriant.flow.admin.projects import forget_project
from myriant.runner.runtimes import find_runtimes
from worlds import World

WHEELS = Path(__file__).parents[2] / ".setup/wheels"


@pytest.fixture(scope="module")
def demo(world: World) -> Path:
    site = world.site
    folder = world.installation.place.demo
    load_demo(site, folder, [WHEELS], lambda _: None, commits=16)
    return folder


def pushed(world: World, demo: Path, what: str, project: str) -> dict[str, Any]:
    said = push(demo, what)
    assert any(f"pushed to main of {project}" in line for line in said) and any("myriant: " in line for line in said), (
        said
    )
    tree = demo / "work" / project
    commit = subprocess.run(
        ["git", "rev-parse", "HEAD"], cwd=tree, capture_output=True, text=True, check=True
    ).stdout.strip()
    for _ in range(600):
        found = world.get(f"/words/{commit}", project=project)
        if found and found[0]["verdict"] != "undecided" and found[0]["final"]:
            view: dict[str, Any] = world.get(f"/projects/{project}/runs/{found[0]['run']}")
            return view
        time.sleep(0.1)
    raise AssertionError("not decided in time")


def test_the_history_holds_the_break_and_the_repair_in_the_order_of_ancestry(world: World, demo: Path) -> None:
    columns = world.get("/projects/lockstep/strip")["columns"]
    assert [c["run"]["number"] for c in columns] == list(range(1, 18))
    assert [c["run"]["verdict"] for c in columns] == ["clear"] * 12 + ["held"] * 3 + ["clear"] * 2
    assert "only where lua=5.1" in columns[12]["run"]["sentence"] and "1 test fixed" in columns[15]["run"]["sentence"]
    times = [c["run"]["at"] for c in columns]
    assert times == sorted(times) and times[0] < times[-1]
    note = subprocess.run(
        ["git", "-C", str(demo / "lockstep.git"), "log", "--notes=myriant", "--format=%N"],
        capture_output=True,
        text=True,
    )
    assert (
        note.stdout.count("lockstep, push to main: held") == 3
        and note.stdout.count("lockstep, push to main: clear") == 14
    )


def test_lockstep_breaks_on_one_old_lua_and_is_mended(world: World, demo: Path) -> None:
    held = pushed(world, demo, "break", "lockstep")
    assert held["run"]["verdict"] == "held" and [c["mark"] for c in held["cells"]] == [
        "new",
        "passed",
        "passed",
        "passed",
    ]
    mended = pushed(world, demo, "fix", "lockstep")
    assert mended["run"]["verdict"] == "clear" and mended["tests"] == 76


def test_tidebook_is_held_by_uncovered_lines_and_says_what_vanished(world: World, demo: Path) -> None:
    first = world.get("/projects/tidebook/strip")["columns"][-1]
    held = pushed(world, demo, "uncover", "tidebook")
    assert held["run"]["verdict"] == "held" and "at least 80.0 %" in held["run"]["sentence"], held["run"]["sentence"]
    assert held["coverage"]["lines_valid"] > 99 and held["cells"][0]["coverage"] < first["coverage"]
    assert held["share_passed"] == "100.0 %"
    fixed = pushed(world, demo, "fix", "tidebook")["run"]
    assert fixed["verdict"] == "clear", fixed["sentence"]
    gone = pushed(world, demo, "vanish", "tidebook")
    assert gone["run"]["verdict"] == "held" and "12 tests vanished" in gone["run"]["sentence"], gone["run"]["sentence"]


def test_reading_all_reports_again_gives_the_same(world: World, demo: Path) -> None:
    for project, reports in (("lockstep", 17 * 4), ("tidebook", 1)):
        done = world.command("project", "reread", project)
        assert done.returncode == 0 and " 0 differ" in done.stdout, done.stdout + done.stderr
        assert int(done.stdout.split()[0]) >= reports


def test_the_made_up_past_of_lockstep_ends_where_its_real_tests_begin(tmp_path: Path) -> None:
    tree = tmp_path / "lockstep"
    shutil.copytree(Path(lockstep_past.__file__).parent / "lockstep", tree)
    runtimes = find_runtimes()
    before = lockstep_past.pattern(tree, runtimes)
    for i in range(lockstep_past.COUNT):
        lockstep_past.edit(tree, i)
    [cell] = lockstep_past.cells(lockstep_past.COUNT - 1, before, {"5.4": "5.4.4"}, random.Random(1))
    told = cases_of(read_junit([cell.reports[0].data]))
    assert [c.name for c in told] == [c.name for c in lockstep_past.pattern(tree, runtimes)]


def test_a_load_that_was_interrupted_is_done_again_from_its_beginning(world: World, demo: Path) -> None:
    class Interrupted(Exception):
        pass

    def interrupt(said: str) -> None:
        raise Interrupted(said)

    site = world.site
    forget_project(site, "lockstep")
    folder = world.installation.place.demo.parent / "demo-again"
    with pytest.raises(Interrupted):
        load_demo(site, folder, [], interrupt, commits=3)
    said: list[str] = []
    load_demo(site, folder, [], said.append, commits=3)
    assert any("loaded again" in line for line in said)
    assert len(world.get("/projects/lockstep/strip")["columns"]) == 4
    load_demo(site, folder, [], interrupt, commits=3)  # nothing is left to load, so nothing is said
