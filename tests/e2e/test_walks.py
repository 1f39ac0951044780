"""Everyday walks by browser: a docs push on a red main; a pull request that loosens its gate."""

from __future__ import annotations

import os
import re
import subprocess
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from browsing import axe, browser, page
from worlds import Repository, World, junit

__all__ = ["browser", "page"]
PROGRAM = Path(__file__).parents[2] / ".venv/bin/myriant"
PLAN = """version = 1

[events]
push = {{ unless-only = ["docs/**"] }}
pull-request = {{}}

[jobs.unit]
runtime = ["lua"]
vary = {{ lua = ["5.1", "5.4"] }}

[[jobs.unit.steps]]
name = "test"
command = "sh test.sh"
collect = {{ tests = ["out/*.xml"] }}
{rules}
"""
RULES = '\n[[gate.rules]]\nname = "all pass"\nmeasure = "tests.share-passed"\nat-least = 1.0\n'


def writes(status: int = 0, **cases: str) -> str:
    return f"mkdir -p out\ncat > out/a.xml <<'END'\n{junit(**cases)}\nEND\nexit {status}\n"


GREEN = writes(opens_at_high_water="passed", closes_at_low_water="passed")
RED = writes(1, opens_at_high_water="expected open, got shut", closes_at_low_water="passed")


def command(world: World, *words: str, said: str = "") -> subprocess.CompletedProcess[str]:
    """The command line, talking to this world."""
    environment = {
        **os.environ,
        "MYRIANT_SERVER": world.address,
        "MYRIANT_TOKEN": str(world.http.headers["Authorization"]).removeprefix("Bearer "),
    }
    return subprocess.run(
        [str(PROGRAM), *words], capture_output=True, text=True, env=environment, timeout=120, input=said
    )


def verdict(repo: Repository, commit: str) -> subprocess.CompletedProcess[str]:
    """What the command line says of a commit."""
    return command(repo.world, "verdict", commit, "--project", repo.name)


@pytest.mark.browser
def test_a_docs_push_on_a_red_main_stays_red_everywhere(page: Page, world: World) -> None:
    repo = world.repository("walk-docs", PLAN.format(rules=""), test__sh=GREEN)
    broke = repo.pushed({"test.sh": RED}, "Open the gate later")
    assert broke["run"]["verdict"] == "held"
    docs = repo.commit({"docs/tides.md": "High water is at four."}, "Write down the tides")
    repo.push()
    run = repo.run_of(docs)
    number = run["run"]["number"]

    page.goto(world.address + "/")  # the Desk: this main line is held, and since when
    row = page.get_by_role("row").or_(page.get_by_role("listitem")).filter(has_text="walk-docs").first
    expect(row).to_contain_text(re.compile("held", re.I))

    page.goto(f"{world.address}/p/walk-docs/runs/{number}")
    head = page.get_by_role("main")
    expect(head).to_contain_text(re.compile("held", re.I))
    sentence = run["run"]["sentence"]
    expect(head).to_contain_text(sentence.split(".")[0])
    assert "1 test" in sentence and run["run"]["verdict"] == "held", sentence

    assert repo.note(docs).startswith("Held") or "held" in repo.note(docs).lower()
    said = verdict(repo, docs)
    assert said.returncode == 1 and "eld" in said.stdout, (said.returncode, said.stdout)

    repaired = repo.pushed({"test.sh": GREEN, "notes.txt": "in time"}, "Open the gate in time")
    assert repaired["run"]["verdict"] == "clear"
    page.goto(f"{world.address}/p/walk-docs/runs/{repaired['run']['number']}")
    expect(page.get_by_role("main")).to_contain_text(re.compile("clear", re.I))
    assert verdict(repo, repaired["run"]["commit"]).returncode == 0


@pytest.mark.browser
def test_a_pull_request_that_loosens_its_gate_is_held_accepted_and_clear(page: Page, world: World) -> None:
    repo = world.repository("walk-loose", PLAN.format(rules=RULES), test__sh=GREEN)
    repo.git("switch", "--quiet", "-c", "softer")
    commit = repo.commit({"myriant.toml": PLAN.format(rules=""), "x": "1"}, "Ask less of the gate")
    repo.push("softer")
    repo.run_of(commit)
    told = world.http.put(
        "/projects/walk-loose/pull-requests/7", json={"source": "softer", "target": "main", "title": "Ask less"}
    )
    number = told.json()["runs"][-1]
    pull = f"/projects/walk-loose/runs/{number}"
    until(lambda: world.get(pull)["run"]["verdict"] == "held")

    listed = command(world, "accept", str(number), "--project", "walk-loose")
    assert listed.returncode == 1 and "the plan asks less: " in listed.stdout and "--reason" in listed.stdout, (
        listed.stdout
    )
    page.goto(f"{world.address}/p/walk-loose/runs/{number}")
    less = page.get_by_role("region", name="Less than before")
    expect(less).to_contain_text("The plan asks less")
    expect(less.get_by_role("listitem")).to_have_count(len(world.get(pull)["acceptable"]["loosened"]))
    assert axe(page) == []
    button = less.get_by_role("button", name="Accept")
    expect(button).to_be_disabled()
    less.get_by_label("It may be so, because").fill("the share is measured elsewhere from today on")
    button.click()
    expect(page.get_by_text("Accepted by")).to_contain_text("the share is measured elsewhere")
    expect(less).to_have_count(0)
    until(lambda: world.get(pull)["run"]["verdict"] == "clear")
    expect(page.get_by_role("main")).to_contain_text(re.compile("Clear", re.I))
    assert "nothing less than before" in command(world, "accept", str(number), "--project", "walk-loose").stdout
    kept = command(world, "project", "credential", "walk-loose", said="high-water-at-4")
    assert kept.returncode == 0 and "kept sealed" in kept.stdout, kept.stdout + kept.stderr
    assert "none is kept" in command(world, "project", "credential", "walk-loose").stdout
    audit = world.get("/projects/walk-loose/audit")
    assert any("the share is measured elsewhere" in str(row) for row in audit)


def until(holds: object) -> None:
    import time

    end = time.monotonic() + 120
    while not holds():  # type: ignore[operator]
        assert time.monotonic() < end
        time.sleep(0.1)
