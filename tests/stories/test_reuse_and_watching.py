"""What a job can see decides whether it must run: what is handed over to it, and what its paths stand for."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import pytest
from sqlalchemy import text

from inprocess import Stories, StoryRepository
from myriant.flow.upkeep.retention import prune_a_little
from worlds import junit, writes

GREEN, RED = junit(a="passed", b="passed"), junit(a="passed", b="expected 1, got 2")
GIVEN = """version = 1

[events]
push = {}

[jobs.build]
title     = "Build"
hand-over = { made = "made.txt" }
secrets   = ["TOKEN"]
[[jobs.build.steps]]
name    = "build"
command = "sh build.sh"

[jobs.unit]
title = "Unit"
after = ["build"]
{more}
[[jobs.unit.steps]]
name    = "test"
command = "if grep -q good $MYRIANT_FROM/build/made.txt; then sh good.sh; else sh bad.sh; fi"
collect = { tests = ["out/unit.xml"] }
"""
WATCHES = """version = 1

[events]
push = {}

[jobs.unit]
title    = "Unit"
touching = ["src/**", "linked/*.txt", "vendor/lib/**"]
settings = { file = "ci.env", to = ".env" }

[[jobs.unit.steps]]
name    = "test"
command = "sh test.sh"
collect = { tests = ["out/unit.xml"] }
"""


@pytest.mark.parametrize("more", ["", 'touching = ["good.sh", "bad.sh"]\n'], ids=["reused", "excused"])
def test_a_job_runs_where_its_ground_hands_over_something_else(world: Stories, more: str) -> None:
    """The build has a secret, so that it runs each time, and makes something else of the same tree."""
    name = "ground-excused" if more else "ground-reused"
    made = world.folder / f"{name}.made"
    repo = world.repository(name, None)
    put = world.http.put(f"/projects/{name}/secrets/TOKEN", json={"value": "a secret of the build"})
    assert put.status_code == 204, put.text
    files = {"build.sh": f"cat {made} > made.txt\n", "good.sh": writes(GREEN), "bad.sh": writes(RED, status=1)}
    said = []
    for number, content in enumerate(["good", "good", "bad", "bad", "good"]):
        made.write_text(content)
        more_files = {"myriant.toml": GIVEN.replace("{more}", more), **files} if number == 0 else {}
        run = repo.pushed({**more_files, **({"README": str(number)} if more else {})})
        cells = {c["job"]: c for c in run["cells"]}
        assert cells["build"]["state"] == "passed" and cells["build"]["reused"] is None
        said.append((run["run"]["verdict"], cells["unit"]["reused"] is not None))
    ran = [(v, False) for v in ("clear", "clear", "held", "held", "clear")]
    # without a difference in the tree nor in what is handed over the answer stands
    assert said == (ran if more else [(v, n in (1, 3, 4)) for n, (v, _) in enumerate(ran)])


def two_days_later(world: Stories) -> None:
    """All that has ended is older, and what is kept for a day goes."""
    with world.site.store.transaction() as session:
        for table in ("run", "attempt"):
            session.execute(text(f"UPDATE {table} SET ended_at = ended_at - '2 days'::interval"))
    while prune_a_little(world.site, datetime.now(UTC)):
        pass


def test_files_that_were_let_go_are_made_anew_and_none_is_let_go_that_is_still_waited_for(
    world: Stories, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A result is not reused without its files, and those of a run that is not over are kept, however old they are."""
    monkeypatch.setattr("myriant.store.retention.KEPT_RUNS", 1)
    repo = world.repository("let-go", None)
    assert world.http.put("/projects/let-go/keeping", json={"days": 1}).status_code < 300
    assert world.http.put("/projects/let-go/secrets/TOKEN", json={"value": "a secret of the tests"}).status_code < 300
    plan = GIVEN.replace('secrets   = ["TOKEN"]', 'supersede = "never"')
    plan = plan.replace("{more}", 'supersede = "never"\nsecrets = ["TOKEN"]')  # a job with a secret runs each time

    def made_by(n: int) -> dict[str, str | None]:
        return {"build.sh": f"echo good > made.txt # {n}\n"}

    def said(run: dict[str, Any]) -> tuple[str, dict[str, int | None]]:
        return run["run"]["verdict"], {c["job"]: c["reused"] for c in run["cells"]}

    first = {"myriant.toml": plan, "good.sh": writes(GREEN), **made_by(1)}
    assert said(repo.pushed(first)) == ("clear", {"build": None, "unit": None})
    assert said(repo.pushed(made_by(2))) == ("clear", {"build": None, "unit": None})
    assert said(repo.pushed(made_by(1))) == ("clear", {"build": 1, "unit": None})
    two_days_later(world)
    assert said(repo.pushed(made_by(1))) == ("clear", {"build": 1, "unit": None}), "the newest run shows it"
    assert said(repo.pushed(made_by(2))) == ("clear", {"build": 2, "unit": None}), "it is what was judged by"
    assert said(repo.pushed(made_by(5))) == ("clear", {"build": None, "unit": None})
    two_days_later(world)
    assert said(repo.pushed(made_by(1))) == ("clear", {"build": None, "unit": None}), "its files were let go"
    with world.nobody_working():
        waits = repo.commit(made_by(2))
        repo.push()
        for n in (3, 4):
            repo.commit(made_by(n))
            repo.push()
        two_days_later(world)
    assert said(repo.run_of(waits)) == ("clear", {"build": 2, "unit": None})

    assert world.http.post("/projects/let-go/runs/1/again", json={"which": "chosen", "cells": "job=unit"}).json() == {
        "cells": 2
    }, "what it is given is made anew"
    world.settle()
    assert said(world.get("/projects/let-go/runs/1")) == ("clear", {"build": None, "unit": None})


def _gitlink(repo: StoryRepository) -> None:
    commit = repo.git("rev-parse", "HEAD~1").strip()
    repo.git("update-index", "--add", "--cacheinfo", f"160000,{commit},vendor/lib")


@pytest.mark.parametrize(
    ("change", "runs"),
    [
        ({"README.md": "words"}, False),
        ({"src/a.lua": "return 2"}, True),
        ({"ci.env": "A=2"}, True),  # the plan's own settings
        ({"shared/data.txt": "2"}, True),  # what linked leads to
        ({"shared/other.md": "2"}, False),  # linked/*.txt does not name it
        ({"test.sh": f"# 2\n{writes(GREEN)}"}, True),  # the step's script
        ({".gitattributes": "*.lua text eol=crlf\n"}, True),  # src/a.lua is checked out differently
        ({".gitattributes": "*.md text eol=crlf\n"}, False),
        ({".gitattributes": "*.lua diff=lua\n"}, False),  # no file is checked out differently
        (_gitlink, True),  # a submodule that moves stands for all below it
    ],
)
def test_a_path_stands_for_what_the_job_would_read_there(
    world: Stories, change: dict[str, str | None] | Callable[[StoryRepository], None], runs: bool
) -> None:
    found = [p["name"] for p in world.get("/projects") if p["name"] == "watching"]
    repo = StoryRepository(world, "watching", world.folder / "watching.git", world.folder / "watching tree")
    if not found:
        repo = world.repository("watching", None)
        (repo.tree / "shared").mkdir()
        (repo.tree / "linked").symlink_to("shared")
        files = {"src/a.lua": "return 1", "ci.env": "A=1", "shared/data.txt": "1", "test.sh": writes(GREEN)}
        repo.pushed({"myriant.toml": WATCHES, **files})
        repo.pushed({"x": "1"})
    repo.git("reset", "-q", "--hard", "main")
    if callable(change):
        change(repo)
        commit = repo.git("commit", "-q", "-m", "a submodule moves") or repo.git("rev-parse", "HEAD").strip()
        repo.push()
        run = repo.run_of(commit)
    else:
        run = repo.pushed(change)
    said = run["run"]["verdict"]
    repo.git("reset", "-q", "--hard", "HEAD~1")
    repo.pushed({"src/a.lua": "return 1"}, "back")
    assert said == ("clear" if runs else "exempt"), run["run"]["sentence"]
