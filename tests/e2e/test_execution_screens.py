"""Evidence, Runners and the project's settings in the real interface."""

from __future__ import annotations

import re
import time

import pytest
from playwright.sync_api import Browser, expect

from browsing import axe, browser, signed_in
from worlds import World, junit

pytestmark = pytest.mark.browser

STEP = (
    'for i in $(seq 1 40); do echo "the usual line $i at $(date +%s)"; done; {more} mkdir -p out; cp {file}.xml out/unit.xml; '
    "echo kept > out/kept.txt; exit {status}"
)
FILES = {
    "red.xml": junit(a="passed", b="expected 1, got 2"),
    "green.xml": junit(a="passed", b="passed"),
    ".env": "TIDE_MODE=low\n",
}


def plan(file: str, status: int, more: str = "") -> str:
    step = STEP.format(file=file, status=status, more=more)
    return (
        'version = 1\n[jobs.unit]\nenv = { TIDE_MODE = "high" }\nartifacts = [{ files = ["out/kept.txt"], keep = "3 days" }]\n'
        f"[[jobs.unit.steps]]\nname = \"test\"\ncommand = '''{step}'''\n"
        'collect = { tests = ["out/unit.xml"] }\n'
    )


def test_evidence_shows_what_is_new_first_and_everything_else_one_click_away(world: World, browser: Browser) -> None:
    repo = world.repository("screens", None)
    repo.pushed({"myriant.toml": plan("green", 0), **FILES})
    held = repo.pushed({"myriant.toml": plan("red", 1, 'echo "fatal: the sluice is shut"; ')})
    number = held["run"]["number"]
    with signed_in(browser, world) as page:
        page.goto(f"{world.address}/p/screens/runs/{number}?section=evidence")
        log = page.get_by_test_id("log")
        expect(log.get_by_text("fatal: the sluice is shut")).to_be_visible()
        expect(log.get_by_text(re.compile("usual, 40 lines"))).to_be_visible()
        assert axe(page) == []
        log.get_by_text(re.compile("usual, 40 lines")).click()
        expect(log.get_by_text(re.compile("the usual line 1 "))).to_be_visible()
        page.get_by_label("Search the log").fill("sluice")
        expect(page.get_by_text("1 of 1 line")).to_be_visible()
        page.get_by_role("tab", name="Variables").click()
        expect(page.get_by_text("1 setting has another value in a file of the repository")).to_be_visible()
        expect(page.get_by_text(".env:1 sets low, may override")).to_be_visible()
        assert axe(page) == []
        page.get_by_role("tab", name="Machine").click()
        expect(page.get_by_text(re.compile("Nothing changed since screens #1"))).to_be_visible()
        page.get_by_role("tab", name="Files").click()
        expect(page.get_by_text("these files are evidence, not a release")).to_be_visible()
        page.get_by_role("button", name="out/kept.txt").click()
        expect(page.frame_locator("iframe").get_by_text("kept")).to_be_visible()
        page.get_by_role("tab", name="Timeline").click()
        expect(page.get_by_test_id("timeline-said")).to_contain_text("from the event to the verdict")
        assert axe(page) == []


def test_the_queue_explains_itself_and_a_runner_is_drained(world: World, browser: Browser) -> None:
    repo = world.repository("queued", None)
    nobody = 'version = 1\n[jobs.unit]\nrunner = ["deep-water"]\n[[jobs.unit.steps]]\ncommand = "true"\ncollect = { tests = ["a.xml"] }\n'
    commit = repo.commit({"myriant.toml": nobody})
    repo.push()
    while not (run := repo.run_of(commit, until="there"))["cells"]:
        time.sleep(0.1)
    name = next(r["name"] for r in world.get("/runners") if r["in_touch"] and not r["drained"])
    with signed_in(browser, world) as page:
        page.goto(f"{world.address}/runners")
        row = page.get_by_role("row", name=re.compile("queued #1"))
        expect(row).to_contain_text("cannot start")
        expect(row).to_contain_text("no runner has the label deep-water")
        assert axe(page) == []
        runner = page.get_by_label(f"Runner {name}")
        runner.get_by_role("button", name="Drain").click()
        expect(runner.get_by_text("Drained: drained by admin")).to_be_visible()
        runner.get_by_role("button", name="Resume").click()
        expect(runner.get_by_text(re.compile("Drained"))).to_have_count(0)
    world.http.post(f"/projects/queued/runs/{run['run']['number']}/stop")


def test_a_secret_is_kept_on_screen_and_never_shown(world: World, browser: Browser) -> None:
    repo = world.repository("kept-secrets", None)
    with signed_in(browser, world, expected=("status of 404", "status of 422")) as page:
        page.goto(f"{world.address}/p/{repo.name}/settings")
        expect(page.get_by_text("Nothing is kept.")).to_be_visible()
        page.get_by_role("region", name="Secrets").get_by_label("Name").fill("TIDE_KEY")
        page.get_by_label("Value", exact=True).fill("abc")
        page.get_by_role("button", name="Keep it").click()
        expect(page.get_by_role("alert")).to_contain_text("at least 6 characters")
        page.get_by_label("Value", exact=True).fill("a longer tide")
        page.get_by_label("Only these branches").fill("main season/*")
        page.get_by_role("button", name="Keep it").click()
        row = page.get_by_role("row", name=re.compile("TIDE_KEY"))
        expect(row).to_contain_text("branches main, season/*")
        assert "a longer tide" not in page.content() and axe(page) == []
        page.get_by_role("button", name="Forget TIDE_KEY").click()
        page.get_by_role("button", name="Yes").click()
        expect(row).to_have_count(0)
