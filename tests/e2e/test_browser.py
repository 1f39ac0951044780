"""The real interface in Chromium: a person watches a push from its arrival to the cause of its failure."""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Page, expect

from browsing import axe, browser, page
from worlds import PLAN, Repository, World, junit, writes

pytestmark = pytest.mark.browser

GREEN = writes(junit(levels="passed", ruler="passed"))
RED = "echo ruler is wrong; sleep 0.5\n" + writes(
    junit(levels="passed", ruler="expected &quot;+-- +--&quot;, got &quot;+--+--&quot;"), status=1
)
SPLIT = 'if lua -v 2>&1 | grep -q "Lua 5.1"; then sh red.sh; else sh green.sh; fi\n'


@pytest.fixture(scope="module")
def story(world: World) -> Repository:
    """A project whose newest run is a repair of a break on Lua 5.1."""
    repo = world.repository("watched", PLAN.replace('["5.1", "5.4"]', '["5.1", "5.2", "5.3", "5.4"]'), test__sh=GREEN)
    repo.pushed({"test.sh": SPLIT, "red.sh": RED, "green.sh": GREEN}, "Draw the ruler in one go")
    repo.pushed({"test.sh": GREEN}, "Draw the ruler properly")
    return repo


def test_a_break_appears_fills_and_is_held_without_a_reload(world: World, page: Page) -> None:
    repo = world.repository("live", PLAN.replace('["5.1", "5.4"]', '["5.1", "5.2", "5.3", "5.4"]'), test__sh=GREEN)
    page.goto(f"{world.address}/p/live")
    sentence = page.get_by_test_id("sentence")
    expect(sentence).to_contain_text("Clear: 2 of 2 tests passed.")
    page.evaluate("window.neverReloaded = true")

    repo.commit({"test.sh": SPLIT, "red.sh": RED, "green.sh": GREEN}, "Draw the ruler in one go")
    repo.push()
    expect(page.get_by_role("button", name="Draw the ruler in one go").first).to_be_visible()
    expect(sentence).to_contain_text("Undecided")
    expect(sentence).to_contain_text("Held: 1 test newly fails, only where lua=5.1.", timeout=30_000)
    expect(page.get_by_test_id("gate")).to_contain_text("no new failures: 1 found, none allowed")
    pair = page.get_by_test_id("expected-actual")
    expect(pair).to_contain_text('expected"+-- +--"actual"+--+--"')
    expect(page.get_by_test_id("findings")).to_contain_text("only where lua=5.1")

    repo.commit({"README": "more"}, "Something on top")
    repo.push()
    expect(page.get_by_role("button", name="Something on top").first).to_be_visible()
    expect(sentence).to_contain_text("Held: 1 test newly fails, only where lua=5.1.", timeout=30_000)

    mended = repo.commit({"test.sh": GREEN}, "Draw the ruler properly")
    repo.push()
    expect(page.get_by_role("button", name="Draw the ruler properly").first).to_be_visible()
    expect(sentence).to_contain_text("Clear: 2 of 2 tests passed; 1 test fixed.", timeout=30_000)
    assert page.evaluate("window.neverReloaded") is True
    said = sentence.inner_text()
    assert said in repo.note(mended)


def test_the_log_streams_while_the_step_runs(world: World, page: Page) -> None:
    repo = world.repository("streaming", PLAN.replace('["5.1", "5.4"]', '["5.4"]'))
    script = (
        "for i in 1 2 3 4 5 6 7 8; do echo line $i of the log; sleep 0.6; done\nprintf '\\033[31mred words\\033[0m\\n'\n"
        + GREEN
    )
    commit = repo.commit({"test.sh": script})
    repo.push()
    number = repo.run_of(commit, until="there")["run"]["number"]
    page.goto(f"{world.address}/p/streaming/runs/{number}?section=evidence")
    log = page.get_by_test_id("log")
    expect(log).to_contain_text("line 2 of the log", timeout=15_000)
    assert "line 8" not in log.inner_text()
    expect(log).to_contain_text("line 8 of the log", timeout=15_000)
    expect(page.get_by_test_id("sentence")).to_contain_text("Clear", timeout=15_000)
    page.get_by_label("Search the log").fill("LINE 3")
    expect(page.get_by_text("1 of 1 line")).to_be_visible()
    colour = page.get_by_text("red words").evaluate("e => getComputedStyle(e).color")
    assert colour == "rgb(191, 63, 38)"


def test_every_selection_is_in_the_address_and_the_keys_move_it(world: World, page: Page, story: Repository) -> None:
    page.goto(f"{world.address}/p/watched")
    expect(page.get_by_test_id("sentence")).to_contain_text("1 test fixed")
    page.keyboard.press("p")
    expect(page).to_have_url(re.compile(r"/runs/2$"))
    expect(page.get_by_test_id("sentence")).to_contain_text("Held")
    page.keyboard.press("b")
    expect(page).to_have_url(re.compile(r"base=2"))
    page.keyboard.press("ArrowRight")
    expect(page.get_by_text("read against #2")).to_be_visible()
    expect(page.get_by_text("Tests against #2: 1 fixed.")).to_be_visible()
    page.keyboard.press("2")
    tile = page.get_by_test_id("tile").first
    expect(tile).to_contain_text("2 passed")
    tile.click()
    expect(page).to_have_url(re.compile(r"cell=unit%2Flua%3D5.1"))
    address = page.url
    page.goto(f"{world.address}/")
    page.goto(address)
    expect(page.get_by_test_id("tile").first).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("End")
    expect(page).to_have_url(re.compile(r"/p/watched\?"))
    page.keyboard.press("l")
    expect(page.get_by_role("option").filter(has_text="Draw the ruler in one go")).to_contain_text(
        "Held: 1 test newly fails"
    )
    page.keyboard.press("Control+k")
    page.get_by_role("textbox", name="Go to").fill("one go")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile(r"/p/watched/runs/2"))


def test_the_matrix_turns_by_keyboard_and_shows_what_is_asked(world: World, page: Page, story: Repository) -> None:
    page.goto(f"{world.address}/p/watched/runs/2?section=matrix")
    chip = page.get_by_role("button", name="lua: Columns")
    chip.focus()
    page.keyboard.press("ArrowLeft")
    expect(page).to_have_url(re.compile(r"rows=lua"))
    expect(page.get_by_role("row").nth(1)).to_contain_text("lua 5.2")
    page.get_by_role("radio", name="duration").click()
    expect(page).to_have_url(re.compile(r"show=duration"))
    expect(page.get_by_test_id("tile").first).to_contain_text(re.compile(r"[\d.]+ (ms|s)"))
    page.get_by_role("button", name="lua: Rows").drag_to(page.get_by_role("group", name="One table per value"))
    expect(page).to_have_url(re.compile(r"tables=lua"))
    expect(page.get_by_role("heading", name="lua 5.3")).to_be_visible()


def test_the_desk_says_who_is_held_since_when_and_what_cannot_run(world: World, page: Page, story: Repository) -> None:
    repo = world.repository("desk-held", PLAN.replace('"5.1"', '"5.9"'))
    commit = repo.commit({"test.sh": GREEN}, "Ask for a Lua that nobody has")
    repo.push()
    repo.run_of(commit, until="there")
    page.goto(f"{world.address}/")
    needs = page.get_by_role("region", name="Needs a decision")
    expect(needs).to_contain_text("no runner offers lua 5.9; runners have lua")
    expect(page.get_by_role("heading", level=1)).to_contain_text("cannot run")
    row = page.get_by_role("row").filter(has_text="watched")
    expect(row.get_by_role("link", name="Run 2: held")).to_be_visible()


def test_an_empty_project_says_what_to_do_next(world: World, page: Page) -> None:
    world.repository("empty-one", None)
    page.goto(f"{world.address}/p/empty-one")
    expect(page.get_by_text("Nothing has run on main yet")).to_be_visible()
    page.goto(f"{world.address}/p/no-such-project")
    expect(page.get_by_text("there is no project 'no-such-project'")).to_be_visible()


def test_a_plan_with_mistakes_shows_each_with_its_mend(world: World, page: Page) -> None:
    repo = world.repository("mistaken", None)
    repo.pushed({"myriant.toml": PLAN.replace("vary ", "varied").replace("steps", "step")})
    page.goto(f"{world.address}/p/mistaken")
    problems = page.get_by_test_id("plan-problems")
    expect(problems).to_contain_text('unknown key "varied" in job unit')
    expect(problems).to_contain_text("did you mean vary?")


def test_cells_are_run_again_a_run_is_stopped_and_an_approval_is_given(world: World, page: Page) -> None:
    plan = (
        PLAN + '[jobs.ship]\ngated = true\napproval = { by = ["maintainer"] }\n[[jobs.ship.steps]]\ncommand = "true"\n'
    )
    repo = world.repository("actions", plan, test__sh=GREEN)
    page.goto(f"{world.address}/p/actions")
    page.get_by_role("button", name="Approve").click()
    expect(page.get_by_test_id("sentence")).to_contain_text("Then ship passed.", timeout=20_000)
    expect(page.get_by_text("ship: approval given by admin")).to_be_visible()
    page.get_by_role("tab", name="Matrix").click()
    page.get_by_role("button", name=re.compile("unit lua=5.1")).click()
    page.get_by_role("button", name="Run again").click()
    page.get_by_role("menuitem", name="The chosen cells (1)").click()
    expect(page.get_by_test_id("sentence")).to_contain_text("after 1 rerun", timeout=20_000)
    expect(page.get_by_test_id("sentence")).to_contain_text("2 of 2 cells")
    repo.commit({"test.sh": "sleep 30"}, "Slow")
    repo.push()
    page.goto(f"{world.address}/p/actions")
    page.get_by_role("button", name="Stop", exact=True).click(timeout=15_000)
    expect(page.get_by_test_id("sentence")).to_contain_text("stopped by admin", timeout=15_000)
    expect(page.get_by_test_id("sentence")).to_contain_text("Held: no trustworthy result")
