"""Screens under strain: slow and failing answers, many cells, narrow windows, keys of one's own; and the newer pages."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Error, Page, Route, expect

from browsing import axe, browser, page, signed_in
from standins import receiver
from worlds import Repository, World

__all__ = ["browser", "page"]
pytestmark = pytest.mark.browser
PLAN = """version = 1
[jobs.unit]
runtime = ["lua"]
vary = { lua = ["5.1", "5.4"] }
[[jobs.unit.steps]]
command = "mkdir -p out; cp report.xml out/a.xml; cp lcov.info out/; echo all; echo is looked for"
collect = { tests = ["out/*.xml"], coverage = ["out/lcov.info"] }
"""
PASSES = "<testsuite name='tide'><testcase name='rises'/><testcase name='falls'/></testsuite>"
FAILS = PASSES.replace(
    "<testcase name='rises'/>",
    "<testcase name='rises'><failure message='expected 3, got 4'>tide.lua:2: in rise</failure></testcase>",
)
LCOV = "TN:\nSF:tide.lua\nDA:1,1\nDA:2,1\nDA:3,0\nend_of_record\n"


@pytest.fixture(scope="module")
def story(world: World) -> Repository:
    """A clear commit, and one after it that is held."""
    repo = world.repository("strained", None)
    repo.pushed({"myriant.toml": PLAN, "report.xml": PASSES, "tide.lua": "one\n", "lcov.info": LCOV}, "Begin")
    repo.pushed({"report.xml": FAILS, "tide.lua": "one\ntwo\nthree\n"}, "Let the tide rise by four")
    return repo


def of(world: World, path: str = "") -> str:
    return f"{world.address}/p/strained{path}"


def test_a_cause_is_taken_and_the_change_shows_the_lines_that_matter(
    page: Page, world: World, story: Repository
) -> None:
    page.goto(of(world))
    expect(page).to_have_title("strained #2 held · Myriant")
    assert "svg" in page.locator('link[rel="icon"]').get_attribute("href")  # type: ignore[operator]
    page.get_by_role("button", name="Take it …").click()
    page.get_by_label("Note").fill("see #12")
    page.get_by_role("button", name="Take it", exact=True).click()
    expect(page.get_by_test_id("findings")).to_contain_text("has it")
    page.get_by_role("button", name="Let the tide rise by four", exact=False).first.click()
    expect(page.get_by_role("tab", name="The change")).to_have_attribute("aria-selected", "true")
    lines = page.get_by_role("region", name="Changed lines of tide.lua")
    expect(lines.locator("[data-failing='true']")).to_contain_text("two")
    expect(lines.locator("[data-bare='true']")).to_contain_text("nothing ran it")
    page.goto(world.address)
    row = page.get_by_role("region", name="Needs a decision").get_by_role("listitem").filter(has_text="strained")
    expect(row).to_contain_text("has tide › rises")
    page.goto(of(world))
    page.get_by_role("button", name="Taken by").click()
    page.get_by_role("button", name="Give it back").click()
    expect(page.get_by_role("button", name="Take it …")).to_be_visible()


def test_what_loads_what_cannot_and_what_was_there_before(browser: Browser, world: World, story: Repository) -> None:
    with signed_in(browser, world, ("status of 500",)) as page:
        held: list[Route] = []
        page.route(re.compile(r"/runs/\d+/findings"), lambda route: held.append(route))
        page.goto(of(world, "/runs/2"))
        expect(page.get_by_test_id("sentence")).to_be_visible()
        expect(page.get_by_test_id("loading")).to_contain_text("still loads")
        held.pop().fulfill(status=500, content_type="application/problem+json", body='{"detail": "out of order"}')
        while not page.get_by_role("alert").count():  # it is tried again by itself before it is said
            page.wait_for_timeout(200)
            while held:
                held.pop().fulfill(
                    status=500, content_type="application/problem+json", body='{"detail": "out of order"}'
                )
        expect(page.get_by_role("alert")).to_contain_text("What was found cannot be shown. out of order")
        page.unroute(re.compile(r"/runs/\d+/findings"))
        page.get_by_role("button", name="Try again").click()
        expect(page.get_by_test_id("findings")).to_contain_text("rises")
        page.route(re.compile(r"/runs/1$"), lambda route: held.append(route))
        page.keyboard.press("ArrowLeft")
        expect(page.locator("[data-stale='true']")).to_contain_text("Let the tide rise by four")  # what was there stays
        page.unroute(re.compile(r"/runs/1$"))
        for route in held:
            with suppress(Error):  # those that were given up when the next run was asked for
                route.continue_()
        expect(page.locator("[data-stale='false']")).to_contain_text("Clear")


def test_keys_are_explained_changed_and_switched_off(page: Page, world: World, story: Repository) -> None:
    page.goto(of(world))
    page.get_by_test_id("sentence").wait_for()
    page.keyboard.press("?")
    sheet = page.get_by_role("dialog")
    expect(sheet.get_by_role("region", name="Marks")).to_contain_text("no result that can be trusted")
    assert axe(page) == []
    matrix = sheet.get_by_role("button", name="Key for Matrix")
    matrix.click()
    page.keyboard.press("1")
    expect(sheet.get_by_role("alert")).to_contain_text("1 is “Findings” already")
    matrix.click()
    page.keyboard.press("m")
    expect(matrix).to_have_text("m")
    page.keyboard.press("Escape")
    expect(sheet).to_be_hidden()
    page.keyboard.press("m")
    expect(page.get_by_role("tab", name="Matrix")).to_have_attribute("aria-selected", "true")
    page.keyboard.press("?")
    page.get_by_role("switch", name="Single keys").click(force=True)
    page.keyboard.press("Escape")
    expect(sheet).to_be_hidden()
    page.keyboard.press("1")
    expect(page.get_by_role("tab", name="Matrix")).to_have_attribute("aria-selected", "true")
    page.keyboard.press("Control+k")
    expect(page.get_by_label("Go to")).to_be_visible()


def ninety_three(route: Route) -> None:
    """The run as if it had 93 cells in four dimensions, one of them long."""
    view: dict[str, Any] = route.fetch().json()
    first = view["cells"][0]
    names = [(p, d, c, o) for p in range(8) for d in "ab" for c in "xyz" for o in ("lin", "mac")][:93]
    view["cells"] = [
        {
            **first,
            "id": 10_000 + i,
            "mark": "new" if i % 31 == 0 else "passed",
            "failed": i % 31 == 0,
            "key": f"python=3.{p},database={d},cache={c},os={o}",
            "state": "failed" if i % 31 == 0 else "passed",
            "values": {"python": f"3.{p}", "database": d, "cache": c, "os": o},
        }
        for i, (p, d, c, o) in enumerate(names)
    ]
    route.fulfill(json=view)


@pytest.mark.parametrize("width", [1280, 768, 400])
def test_93_cells_fit_and_are_chosen_by_dragging_and_by_words(
    page: Page, world: World, story: Repository, width: int
) -> None:
    page.set_viewport_size({"width": width, "height": 800})
    page.route(re.compile(r"/runs/2$"), ninety_three)
    page.goto(of(world, "/runs/2?section=matrix"))
    tiles = page.get_by_test_id("tile")
    expect(tiles).to_have_count(93)
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")
    if width == 1280:
        table = page.locator("table").first.bounding_box()
        assert table is not None and table["width"] <= 1264 and table["height"] < 560, table
        order = page.get_by_role("group", name=re.compile("Rows|Columns")).get_by_role("button").all_inner_texts()
        assert sorted(order) == ["cache", "database", "os", "python"]
        boxes = [b for b in (tiles.nth(i).bounding_box() for i in range(93)) if b]
        row = [i for i, b in enumerate(boxes) if b["y"] == boxes[0]["y"]]
        start, end = boxes[row[0]], boxes[row[2]]
        page.mouse.move(start["x"] + 9, start["y"] + 9)
        page.mouse.down()
        page.mouse.move(boxes[row[1]]["x"] + 9, start["y"] + 9)
        page.mouse.move(end["x"] + 9, end["y"] + 9)
        page.mouse.up()
        expect(page.get_by_text("3 cells chosen")).to_be_visible()
    page.goto(of(world, "/runs/2?section=evidence"))
    page.get_by_role("group", name="Cell").get_by_role("button", name="Cell: ").click()
    page.get_by_label("Filter cells").fill("3.2 mac z")
    expect(page.get_by_role("menuitem")).to_have_count(2)
    page.get_by_role("menuitem").first.click()
    expect(page.get_by_role("button", name="Cell: unit")).to_contain_text("python 3.2")
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")


RUN = "/runs/2?section="
VIEWS = {
    "desk": "/",
    "add": "/add",
    "nowhere": "/nowhere",
    "runners": "/runners",
    "sizes": "/sizes",
    **{s: f"{RUN}{s}" for s in ("findings", "matrix", "tests&state=all", "coverage", "evidence", "sent", "change")},
    "list": "/runs/2?list=1",
    "held against": "/runs/2?base=1",
    "test": "/tests/1",
    "flaky": "/flaky",
    **{
        p: f"/{p}" for p in ("pulls", "trends", "versions", "past", "releases", "rankings", "cost", "morning", "report")
    },
    "failures": "/past?look=failures",
    "artifacts": "/past?look=artifacts",
    "settings": "/settings",
    "plan": "/plan",
    "forms": "/plan?view=forms",
    "tag": "/plan?event=tag&tag=v1",
}
OF_SERVER = ("desk", "add", "nowhere", "runners", "sizes")


@pytest.mark.parametrize("view", VIEWS)
def test_each_view_is_whole_and_readable_at_three_widths_in_both_themes(
    page: Page, world: World, story: Repository, view: str
) -> None:
    page.goto(world.address + VIEWS[view] if view in OF_SERVER else of(world, VIEWS[view]))
    page.get_by_test_id("sentence").wait_for() if "/runs/2" in VIEWS[view] else page.wait_for_load_state("networkidle")
    expect(page.get_by_role("main").get_by_role("heading").first).to_be_visible()  # what loads has none
    expect(page.locator("[aria-busy=true]")).to_have_count(0)
    for width in (1280, 768, 400):
        page.set_viewport_size({"width": width, "height": 800})
        for scheme in ("dark", "light"):
            page.emulate_media(color_scheme="dark" if scheme == "dark" else "light", reduced_motion="reduce")
            expect(page.locator(f"[data-mantine-color-scheme={scheme}]")).to_have_count(1)
            assert page.evaluate("document.documentElement.scrollWidth <= innerWidth"), (view, width)
            assert axe(page) == [], (view, width, scheme)
    if view not in OF_SERVER:
        page.get_by_role("button", name="More pages").click()
        page.get_by_role("menuitem", name="Trends").press("Escape")
        expect(page.get_by_role("menu")).to_have_count(0)


def focus(page: Page, what: str, most: int = 90) -> None:
    """By Tab alone until something of that name has the focus."""
    said = ""
    for _ in range(most):
        page.keyboard.press("Tab")
        said = page.evaluate(
            "(e => e.matches('a, button, input') ? `${e.getAttribute('aria-label')} ${e.innerText}` : '')"
            "(document.activeElement)"
        )
        if re.search(what, said):
            return
    raise AssertionError(f"{what} is not reached in {most} steps; at last: {said[:200]}")


def test_from_the_desk_to_the_cause_by_keyboard_alone(page: Page, world: World, story: Repository) -> None:
    page.goto(f"{world.address}/")
    page.get_by_role("link", name="Run 2: held").first.wait_for()
    while True:  # of those that are held, ours
        focus(page, "Run 2: held")
        if page.evaluate("document.activeElement.getAttribute('href')").startswith("/p/strained/"):
            break
    page.keyboard.press("Enter")
    expect(page.get_by_test_id("sentence")).to_contain_text("Held: 1 test newly fails")
    page.keyboard.press("j")
    page.keyboard.press("o")
    expect(page.get_by_test_id("expected-actual")).to_contain_text("3")
    expect(page.get_by_test_id("changes")).to_contain_text("Let the tide rise by four")
    focus(page, "tide.lua:2")
    page.keyboard.press("Enter")
    expect(page.get_by_role("figure")).to_contain_text("two")
    page.keyboard.press("d")
    expect(page.get_by_text("three").first).to_be_visible()
    page.keyboard.press("5")
    expect(page.get_by_text("echo is looked for").first).to_be_visible()
    page.keyboard.press("3")
    focus(page, "null rises")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("rises")
    page.go_back()
    page.keyboard.press("2")
    focus(page, "lua=5.1: 1 failing")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("cell=unit"))


def test_the_list_is_moved_through_by_keys_and_all_of_a_run_is_printed(
    page: Page, world: World, story: Repository
) -> None:
    page.goto(of(world, "?list=1"))
    runs = page.get_by_role("listbox", name="Runs, newest first")
    runs.focus()
    page.keyboard.press("ArrowDown")
    expect(page).to_have_url(re.compile("/runs/1"))
    expect(runs).to_have_attribute("aria-activedescendant", "run-1")
    page.keyboard.press("Home")
    expect(runs).to_have_attribute("aria-activedescendant", "run-2")
    page.emulate_media(media="print")
    expect(page.get_by_test_id("findings")).to_be_visible()
    expect(page.get_by_role("button", name="Go to…")).to_be_hidden()


def test_trends_open_runs_and_are_a_table_too(page: Page, world: World, story: Repository) -> None:
    page.goto(of(world, "/trends"))
    expect(page.get_by_role("heading", level=1)).to_contain_text("1 of the newest 2 runs were held")
    chart = page.get_by_role("figure", name="Failing tests")
    expect(chart.locator("svg")).to_be_visible()
    box = chart.locator("svg").bounding_box()
    assert box is not None
    page.mouse.click(box["x"] + box["width"] * 0.75, box["y"] + box["height"] / 2)
    expect(page).to_have_url(re.compile("/runs/2"))
    page.go_back()
    for form, begins in (("SVG", b"<svg"), ("PNG", b"\x89PNG")):
        with page.expect_download() as saved:
            page.get_by_role("button", name=f"Failing tests as {form}").click()
        assert Path(saved.value.path()).read_bytes().startswith(begins)
    page.get_by_role("button", name="As a table").click()
    expect(page.get_by_role("row").filter(has_text="Let the tide rise")).to_contain_text("#2")


def test_a_range_of_the_strip_is_looked_at_in_trends_and_a_report_is_for_paper(
    page: Page, world: World, story: Repository
) -> None:
    page.goto(of(world, ""))
    band = page.get_by_test_id("strip-scroller")
    box = band.bounding_box()
    assert box is not None
    right, y = box["x"] + box["width"] - 12, box["y"] + box["height"] / 2
    page.mouse.move(right - 27, y)
    page.keyboard.down("Shift")
    page.mouse.down()
    page.mouse.move(right - 9, y, steps=4)
    page.mouse.up()
    page.keyboard.up("Shift")
    expect(page).to_have_url(re.compile("/trends.*from=1&to=2"))
    expect(page.get_by_text("Only #1 to #2")).to_be_visible()
    page.get_by_role("button", name="All of them").click()
    expect(page.get_by_text("Only #1 to #2")).to_have_count(0)
    page.get_by_role("link", name="a report to print").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("2 runs in 30 days, 1 of them held")
    expect(page.get_by_role("row").filter(has_text="Tests that broke")).to_contain_text("1")
    page.emulate_media(media="print")
    expect(page.get_by_role("button", name="Print")).to_be_hidden()
    assert page.pdf()[:5] == b"%PDF-"


def test_a_version_is_weighed_and_its_change_taken_into_the_plan(page: Page, world: World, story: Repository) -> None:
    page.goto(of(world, "/versions"))
    expect(page.get_by_role("heading", level=1)).to_contain_text("None of 2 values found a break that no other did")
    row = page.get_by_role("row").filter(has=page.get_by_role("cell", name="5.1", exact=True)).first
    expect(row).to_contain_text("binding")
    page.get_by_label("One: lua of unit").select_option("5.1")
    page.get_by_label("the other: lua of unit").select_option("5.4")
    expect(page.locator("main")).to_contain_text(
        "Over 2 runs with both, 5.1 alone failed in 0, 5.4 alone in 0, both in 1"
    )
    row.get_by_role("button", name="Retire: lua 5.1").click()
    told = page.get_by_test_id("what-if")
    expect(told).to_contain_text(
        "In 1 of 2 runs something broke: it would have missed none of them; with 95 % certainty"
    )
    expect(told).to_contain_text("of runners a run, ")
    row.get_by_role("button", name="Make it advisory: lua 5.1").click()
    expect(told).to_contain_text("It saves no time: its cells run all the same.")
    assert axe(page) == []
    row.get_by_role("button", name="Retire: lua 5.1").click()
    told.get_by_role("button", name="Take it into the plan").click()
    expect(page.get_by_role("tab", name="Difference")).to_have_attribute("aria-selected", "true")
    expect(page.locator("main")).to_contain_text("job unit: 1 cell gone (lua=5.1)")
    page.get_by_role("button", name="Put back").click()
    answer = world.http.get(
        "/projects/strained/versions/what-if",
        params={"job": "unit", "dimension": "lua", "value": "9", "change": "retire"},
    ).json()
    assert answer["text"] is None and "not listed in this job's vary" in answer["cannot"]
    assert answer["said"] == ["No judged run has cells with 9: nothing is known of it."]


def test_the_matrix_follows_the_baseline_that_is_read_against(page: Page, world: World, story: Repository) -> None:
    page.goto(of(world, "/runs/2?section=matrix"))
    marks = page.get_by_test_id("tile").get_by_role("img")
    expect(marks.first).to_have_accessible_name("failed, new")
    page.goto(of(world, "/runs/2?section=matrix&base=2"))
    expect(page.locator("main")).to_contain_text("Marks are against #2.")
    expect(marks.first).to_have_accessible_name("failed, known")


def test_a_runner_is_given_a_token_of_its_own(page: Page, world: World, story: Repository) -> None:
    page.goto(f"{world.address}/runners")
    region = page.get_by_role("region", name="Tokens of runners")
    region.get_by_role("textbox", name="Runner").fill("quay")
    region.get_by_label("Only for").first.click()
    page.get_by_role("option", name="strained").click()
    region.get_by_role("button", name="Give it a token").click()
    expect(region.get_by_role("status")).to_contain_text("myriant runner --server")
    row = region.get_by_role("row").filter(has_text="quay")
    expect(row).to_contain_text("strained")
    assert axe(page) == []
    row.get_by_role("button", name="Revoke the token of quay").click()
    region.get_by_role("button", name="Yes").click()
    expect(region.get_by_role("row")).to_have_count(0)


def test_all_runs_are_found_by_what_they_are_and_by_what_failed(page: Page, world: World, story: Repository) -> None:
    page.goto(of(world, "/past"))
    rows = page.get_by_role("region", name="Runs").get_by_role("row")
    expect(rows).to_have_count(3)
    page.get_by_label("Verdict").select_option("held")
    expect(rows).to_have_count(2)
    expect(rows.last).to_contain_text("Let the tide rise by four")
    assert axe(page) == []
    told = page.get_by_role("link", name="CSV").get_attribute("href")
    assert told is not None and "#" not in told
    text = world.http.get(f"{world.address}{told}").text
    assert [line.split(",")[0] for line in text.splitlines()] == ["number", "2"]
    page.get_by_label("Title, author or commit").fill("nobody's")
    expect(page.locator("main").get_by_role("status")).to_contain_text("No run fits.")
    page.get_by_role("button", name="What failed in them").click()
    page.get_by_label("A message, or a test's name").fill("EXPECTED 3")
    expect(page.locator("main").get_by_role("status")).to_contain_text(
        "“EXPECTED 3”: 2 results of 1 cause in 1 run of the last 30 days."
    )
    expect(page.get_by_role("listitem")).to_contain_text("unit lua=5.1, unit lua=5.4")
    assert axe(page) == []
    page.get_by_role("listitem").get_by_role("link").click()
    expect(page).to_have_url(re.compile("/runs/2.*finding="))
    page.goto(of(world, "/past?look=logs&text=looked%20for"))
    expect(page.locator("main").get_by_role("status")).to_contain_text(
        "“looked for” stands in 4 logs; 4 logs of the last 30"
    )
    assert axe(page) == []
    page.get_by_role("link", name="unit lua=5.4, line 2").first.click()
    expect(page).to_have_url(re.compile("/runs/2.*section=evidence.*line=2"))
    expect(
        page.get_by_role("link", name="2", exact=True).or_(page.locator("[data-chosen='true']")).first
    ).to_be_visible()


@pytest.mark.parametrize(
    ("query", "numbers"),
    [
        ({}, [2, 1]),
        ({"text": "begin"}, [1]),
        ({"text": "ada fen"}, [2, 1]),
        ({"text": "%"}, []),
        ({"verdict": "clear"}, [1]),
        ({"event": "tag"}, []),
        ({"branch": "main", "before": 2}, [1]),
        ({"limit": 1}, [2]),
        ({"until": "2020-01-01T00:00:00Z"}, []),
    ],
)
def test_runs_that_fit(world: World, story: Repository, query: dict[str, Any], numbers: list[int]) -> None:
    told = world.get("/projects/strained/runs", **query)
    assert [r["number"] for r in told["runs"]] == numbers
    assert told["more"] == ("limit" in query)
    assert world.get("/projects/strained/failures", text="rises")["causes"][0]["runs"] == [2]  # a test's name
    assert world.get("/projects/strained/failures", text="50%_off")["causes"] == []
    assert world.http.get("/projects/strained/failures", params={"text": "ab"}).status_code == 422


def test_outcomes_are_told_where_a_form_says_and_a_badge_is_shown(
    browser: Browser, world: World, story: Repository
) -> None:
    with receiver() as came, signed_in(browser, world, ("status of 422",)) as page:
        page.goto(of(world, "/settings"))
        region = page.get_by_role("region", name="Where outcomes are told")
        region.get_by_role("button", name="Tell it somewhere …").click()
        region.get_by_label("Name").fill("room")
        region.get_by_label("Address").fill("rooms.example")
        region.get_by_role("button", name="Keep it").click()
        expect(region.get_by_role("alert")).to_contain_text("the address is none")
        region.get_by_label("Address").fill(f"http://{came.address}/room")
        region.get_by_role("button", name="Keep it").click()
        region.get_by_role("button", name="Try it").click()
        expect(region.get_by_role("status")).to_contain_text(
            "private address" if not os.environ.get("MYRIANT_TELL_TO") else "arrived"
        )
        badges = page.get_by_role("region", name="Badges")
        badges.get_by_role("button", name="Show its address").click()
        picture = badges.get_by_role("img")
        expect(picture).to_be_visible()
        assert picture.evaluate("async (i) => { await i.decode(); return i.naturalHeight }") == 20
        region.get_by_role("button", name="Remove").click()
        expect(region).not_to_contain_text("room,")


def test_a_drafts_gate_is_replayed_before_it_is_saved(page: Page, world: World, story: Repository) -> None:
    rule = '\n[[gate.rules]]\nname = "most pass"\nmeasure = "tests.share-passed"\nat-least = 1.0\n'
    answer = world.http.post("/projects/strained/plan/replay", json={"text": PLAN + rule}).json()
    assert [(r["number"], r["before"], r["now"]) for r in answer["runs"]] == [
        (2, "held", "held"),
        (1, "clear", "clear"),
    ]
    assert answer["limits"] == [{"rule": "most pass", "limit": "100.0 %", "runs": 1, "held": 0, "unmeasured": 0}]
    page.goto(of(world, "/plan"))
    page.get_by_role("tab", name="Its gate over past runs").click()
    pane = page.get_by_test_id("replay")
    expect(pane).to_contain_text("Over the newest 2 runs this gate would have held 1; as it was.")
    assert json.dumps(answer["untold"]) == "[]"


@pytest.fixture(autouse=True)
def usual_window(page: Page) -> Iterator[None]:
    yield
    page.unroute_all(behavior="ignoreErrors")
