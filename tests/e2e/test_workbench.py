"""The workbench and the first visit in Chromium: a plan is right before it is pushed."""

from __future__ import annotations

import json
import re
import subprocess
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from browsing import axe, browser, page, signed_in
from myriant.core.plan.reference import reference
from worlds import PLAN, Repository, World, junit, one_installation, writes

pytestmark = pytest.mark.browser
GREEN = writes(junit(levels="passed", ruler="passed"))
LIB = "return function(n) return n + 1 end\n"
TEST = 'package.path = "./?.lua;" .. package.path\nlocal add = require("add")\nassert(add(1) == 2)\n'
EVENTS = '[events]\npush = { branches = ["main"], unless-only = ["docs/**"] }\npull-request = { into = ["main"] }\ntag = { names = ["v*"] }\n'
JOBS = """
[jobs.publish]
title = "Publish"
after = ["unit"]
when  = [{ tag = "v*" }]
gated = true

[[jobs.publish.steps]]
command = "true"
"""


def text_of(page: Page) -> str:
    return "\n".join(page.locator(".cm-line").all_inner_texts()).replace("\xa0", " ")


def write(page: Page, text: str) -> None:
    """Put a text into the editor as a person who pastes it."""
    editor = page.get_by_label("Text of the test plan")
    editor.click()
    page.keyboard.press("Control+a")
    page.keyboard.press("Delete")
    page.evaluate(
        "t => { const d = new DataTransfer(); d.setData('text/plain', t);"
        " document.activeElement.dispatchEvent(new ClipboardEvent('paste', { clipboardData: d, bubbles: true, cancelable: true })); }",
        text,
    )


@pytest.fixture(scope="module")
def planned(world: World) -> Repository:
    plan = PLAN.replace("version = 1\n", "version = 1\n" + EVENTS) + JOBS
    return world.repository("planned", plan, test__sh=GREEN, **{"docs/notes__md": "notes\n"})


def test_from_an_empty_server_and_an_unknown_repository_to_the_first_verdict(browser: Browser) -> None:
    with one_installation("myriant-first-") as fresh, signed_in(browser, fresh, ("status of 422",)) as page:
        origin, tree = fresh.folder / "sluice.git", fresh.folder / "sluice"
        subprocess.run(["git", "init", "-q", "--bare", "-b", "main", str(origin)], check=True)
        subprocess.run(["git", "clone", "-q", str(origin), str(tree)], check=True, capture_output=True)
        for path, content in (("add.lua", LIB), ("tests/add_test.lua", TEST)):
            (tree / path).parent.mkdir(exist_ok=True)
            (tree / path).write_text(content)
        for words in (
            ["add", "-A"],
            ["-c", "user.name=Ada Fen", "-c", "user.email=ada@fenmark.example", "commit", "-qm", "Add"],
            ["push", "-q", "origin", "HEAD:main"],
        ):
            subprocess.run(["git", *words], cwd=tree, check=True)
        where = page.get_by_label("Path or address of the repository")
        assert axe(page) == []
        where.fill(str(fresh.folder / "sluise.git"))
        page.get_by_role("button", name="Look").click()
        expect(page.get_by_role("alert")).to_contain_text("cannot be read as a git repository")
        where.fill(str(origin))
        page.get_by_role("button", name="Look").click()
        expect(page.get_by_test_id("looked")).to_contain_text(
            "It can be read: 1 branch; every push would be heard at once, by a hook."
        )
        page.get_by_role("button", name="Watch it").click()
        expect(page).to_have_url(re.compile("/p/sluice/plan"))
        proposal = page.get_by_role("listitem").filter(has=page.get_by_role("button", name="Lua take"))
        expect(proposal).to_contain_text("A guess: each test file is one test that passes when it ends with 0")
        page.get_by_role("button", name="Lua take").click()
        expect(page.get_by_test_id("rehearsal")).to_contain_text(
            re.compile(r"A push to main runs \d cells of 1 job; perhaps")
        )
        assert axe(page) == []
        page.get_by_role("button", name="Save…").click()
        page.get_by_role("button", name="Save and start").click()
        expect(page.get_by_test_id("sentence")).to_contain_text("Clear: 1 of 1 test passed.", timeout=40_000)
        logged = subprocess.run(
            ["git", "-C", str(origin), "log", "--format=%an %s", "main"], capture_output=True, text=True, check=True
        ).stdout
        assert logged.split("\n")[0] == "admin Add the test plan"


def test_an_empty_repository_gets_its_first_commit_from_the_workbench(world: World, page: Page) -> None:
    repo = world.repository("hollow", None)
    page.goto(f"{world.address}/p/hollow/plan")
    expect(page.get_by_role("heading", level=1)).to_contain_text("The repository is empty")
    page.get_by_role("button", name="job", exact=True).click()
    expect(page.get_by_test_id("editor")).to_contain_text("[jobs.job-1]")
    write(page, PLAN)
    expect(page.get_by_test_id("rehearsal")).to_contain_text("runs 2 cells")
    page.get_by_role("button", name="Save…").click()
    page.get_by_role("button", name="Save without starting").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("The test plan of main, as it stands")
    head = subprocess.run(
        ["git", "-C", str(repo.origin), "rev-parse", "main"], capture_output=True, text=True, check=True
    ).stdout.strip()
    told = world.word(head, "hollow")
    assert told is not None and told["untested"] == ["admin saved the plan without starting a run"]
    assert world.get("/projects/hollow/strip")["columns"] == []


MISTAKES = [
    (PLAN.replace("runtime", "runtme"), "write runtime", 'runtime = ["lua"]'),
    (PLAN.replace('"5.4"', "5.10"), 'quote it: "5.10"', '"5.10"'),
    (PLAN + 'runner = ["linux"]\n', "move it above the first [[jobs.unit.steps]]", 'runner = ["linux"]'),
    (PLAN.replace("vary    =", 'timeout = "20m"\nvary    ='), 'write "20 min"', 'timeout = "20 min"'),
    (PLAN + '[[gate.rules]]\nmeasure = "tests.share-passed"\nat-least = 95\n', "write 0.95", "at-least = 0.95"),
]


def test_what_a_draft_asks_less_is_said_before_it_is_saved(world: World, page: Page, planned: Repository) -> None:
    page.goto(f"{world.address}/p/planned/plan")
    expect(page.get_by_test_id("editor")).to_be_visible()
    text = text_of(page)
    write(page, text + '\n[gate]\nvanished = "warn"\n')
    page.locator("#view-difference").click()
    expect(page.get_by_test_id("loosened")).to_contain_text("the built-in rule vanished only warns")
    assert axe(page) == []
    page.get_by_role("button", name="Save…").click()
    dialog = page.get_by_role("dialog")
    expect(dialog.get_by_test_id("loosened")).to_contain_text("until a maintainer accepts")
    dialog.get_by_role("textbox", name="With the message").press("Escape")
    expect(dialog).to_have_count(0)
    page.locator("#view-text").click()
    write(page, text)
    page.locator("#view-difference").click()
    expect(page.get_by_test_id("loosened")).to_have_count(0)


@pytest.mark.parametrize(
    ("text", "repair", "expected"), MISTAKES, ids=["misspelt", "unquoted", "misplaced", "unit", "percent"]
)
def test_a_typical_mistake_is_repaired_with_the_offered_edit(
    world: World, page: Page, planned: Repository, text: str, repair: str, expected: str
) -> None:
    page.goto(f"{world.address}/p/planned/plan")
    write(page, text)
    expect(page.get_by_test_id("problem-count")).to_contain_text("1 error")
    expect(page.locator(".cm-lintRange-error").first).to_be_visible()
    page.get_by_test_id("problems").get_by_role("button", name=repair).click()
    expect(page.get_by_test_id("problem-count")).not_to_be_visible()
    expect(page.get_by_test_id("rehearsal")).to_be_visible()
    assert expected in text_of(page)


def test_several_mistakes_are_repaired_at_once_and_the_draft_survives_a_reload(
    world: World, page: Page, planned: Repository
) -> None:
    page.goto(f"{world.address}/p/planned/plan")
    write(page, PLAN.replace("runtime", "runtme").replace("command", "comand").replace('"5.4"', "5.4"))
    expect(page.get_by_test_id("problem-count")).to_contain_text("4 errors")
    page.get_by_role("button", name="Repair them all").click()
    expect(page.get_by_test_id("problem-count")).not_to_be_visible()
    page.reload()
    expect(page.get_by_role("heading", level=1)).to_contain_text("A draft for main")
    page.get_by_role("tab", name="Difference").click()
    expect(page.get_by_test_id("difference")).to_contain_text("-[jobs.publish]")
    page.get_by_role("button", name="Put back").click()
    expect(page.get_by_text("This is the plan as it stands: nothing differs.")).to_be_visible()


def test_a_tag_a_pull_request_and_a_push_of_words_alone_are_rehearsed(
    world: World, page: Page, planned: Repository
) -> None:
    page.goto(f"{world.address}/p/planned/plan")
    said = page.get_by_test_id("rehearsal")
    expect(said).to_contain_text("A push to main runs 2 cells of 1 job")
    expect(page.get_by_test_id("meaning")).to_contain_text("its when (tag=v*) does not hold for a push to main")
    page.get_by_label("Changed files").fill("docs/a.md, docs/b.md")
    expect(said).to_contain_text(
        "nothing has to run, because only files of docs/** changed; what its jobs have said before stands."
    )
    expect(page).to_have_url(re.compile(r"changed=docs%2Fa.md%2Cdocs%2Fb.md"))
    page.get_by_role("textbox", name="Branch", exact=True).fill("season/x")
    expect(said).to_contain_text("the plan's push event names main, not season/x")
    page.get_by_role("combobox", name="Event").click()
    page.get_by_role("option", name="a tag").click()
    expect(said).to_contain_text("The tag v1.0 runs 3 cells of 2 jobs")
    expect(page.get_by_role("img", name="Order of the jobs: unit, then publish")).to_be_visible()
    page.get_by_label("Tag").fill("draft-1")
    expect(said).to_contain_text("the plan's tag event names v*, not draft-1")
    page.get_by_role("combobox", name="Event").click()
    page.get_by_role("option", name="a pull request").click()
    expect(said).to_contain_text("A pull request from topic into main runs 2 cells of 1 job")
    address = page.url
    page.goto(world.address)
    page.goto(address)
    expect(said).to_contain_text("A pull request from topic into main")


def test_forms_and_text_are_two_views_of_one_document(world: World, page: Page, planned: Repository) -> None:
    page.goto(f"{world.address}/p/planned/plan?view=forms")
    values = page.get_by_label("Values of lua")
    values.fill("5.1, 5.2, 5.4")
    values.press("Enter")
    expect(page.get_by_test_id("rehearsal")).to_contain_text("runs 3 cells")
    limit = page.get_by_label("Time limit").first
    limit.fill("7 min")
    limit.press("Enter")
    page.get_by_role("tab", name="Text").click()
    expect(page.get_by_test_id("editor")).to_contain_text('vary    = { lua = ["5.1", "5.2", "5.4"] }')
    expect(page.get_by_test_id("editor")).to_contain_text('timeout = "7 min"')
    page.get_by_text("[jobs.unit]").click()
    page.get_by_label("Search proposals and pieces").fill("several pairs sample")
    page.get_by_label("Search proposals and pieces").fill("stored secrets")
    page.get_by_role("button", name="secrets", exact=True).click()
    expect(page.get_by_test_id("editor")).to_contain_text("secrets")
    page.keyboard.press("Control+Home")
    page.get_by_label("Text of the test plan").click()
    page.keyboard.press("Control+End")
    page.keyboard.type("\n[jobs.more]\nrunt")
    expect(page.get_by_role("option", name=re.compile("^runtime"))).to_be_visible()
    page.keyboard.press("Tab")
    expect(page.get_by_test_id("editor")).to_contain_text("runtime =")


def test_the_schema_and_the_reference_agree_with_what_is_read(world: World) -> None:
    schema = world.http.get(f"{world.address}/schema/plan-1.json").json()
    printed = world.command("plan", "schema")
    assert json.loads(printed.stdout) == schema
    words = world.get("/plan/words")["tables"]
    for kind, keys in words.items():
        table = schema if kind == "plan" else schema["$defs"][kind]
        assert set(table["properties"]) == {k["key"] for k in keys}
    page_text = (Path(__file__).parents[2] / "docs/plan-keys.md").read_text()
    assert page_text == reference()  # written by: python -c "...; print(reference())" > docs/plan-keys.md
