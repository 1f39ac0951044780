"""From a held run to the cause of each failure, in the real interface."""

from __future__ import annotations

import os
import re
import time

import pytest
from playwright.sync_api import Browser, expect

from browsing import axe, browser, signed_in
from worlds import HERE, PLAN, World, junit, writes

pytestmark = pytest.mark.browser

PLAN24 = """version = 1
[jobs.unit]
vary = { python = ["3.8", "3.9", "3.10", "3.11", "3.12", "3.13"], rounding = ["nearest", "bankers", "down", "up"] }
[[jobs.unit.steps]]
name = "test"
command = '''mkdir -p out; f="red-$MYRIANT_CELL_PYTHON-$MYRIANT_CELL_ROUNDING.xml"; [ -f "$f" ] || f="red-$MYRIANT_CELL_PYTHON.xml"; [ -f "$f" ] || f=green.xml; cp "$f" out/unit.xml'''
collect = { tests = ["out/unit.xml"] }
"""
TESTS = 1000
CAUSES = {
    "red-3.8.xml": (range(0, 250), "LookupError: no slack water is known for gauge {n}", "python=3.8"),
    "red-3.12-bankers.xml": (
        range(250, 350),
        "FATAL: database &quot;logbook{n}&quot; does not exist",
        "python=3.12,rounding=bankers",
    ),
    "red-3.13-bankers.xml": (range(350, 400), "assert 24 == 25", "python=3.13,rounding=bankers"),
}


def report(failing: range = range(0), message: str = "") -> str:
    rows = []
    for n in range(TESTS):
        head = f'<testcase classname="tides.module{n // 50}" name="test_{n}" time="0.00{n % 9 + 1}"'
        said = message.replace("{n}", str(n % 7))
        stack = f"  File &quot;/workspace/tidebook/predict.py&quot;, line {n % 3 + 10}, in turning"
        rows.append(
            f'{head}><failure message="{said}">{stack if "Lookup" in said else ""}</failure></testcase>'
            if n in failing
            else f"{head}/>"
        )
    return f'<testsuite name="s">{"".join(rows)}</testsuite>'


FIRST_WALK = """# The first walk: from a held run to its causes

Somebody who was never here opens the page of a held run: 24 cells of 1,000 tests, 400 of them newly failing, from three causes
that nobody has told. Each step is one interaction; the seconds are those of a slow machine of two cores, from the click until
what is seen stands there. Written by `tests/e2e/test_diagnosis_screens.py` (with `MYRIANT_WRITE=1`), which walks it in Chromium.

| Step | Done | Seen | Seconds |
|---|---|---|---|
"""


def test_the_cause_of_each_of_400_failures_is_one_click_away(world: World, browser: Browser) -> None:
    repo = world.repository("causes", None)
    repo.pushed(
        {"myriant.toml": PLAN24, "green.xml": report(), "tidebook/predict.py": "def turning():\n    pass\n" * 9},
        within=120,
    )
    held = repo.pushed(
        {name: report(tests, said) for name, (tests, said, _) in CAUSES.items()}, "Tidy the tables", within=120
    )
    assert sum(c["failed"] > 0 for c in held["cells"]) == 6 and len(held["cells"]) == 24
    with signed_in(browser, world) as page:
        begun = time.monotonic()
        page.goto(f"{world.address}/p/causes/runs/{held['run']['number']}")
        rows = page.get_by_test_id("findings").locator("[data-findings] > button")
        expect(rows).to_have_count(3)
        steps = [
            (
                "open the page of the held run",
                page.get_by_test_id("sentence").inner_text().split(".")[0],
                time.monotonic() - begun,
            )
        ]
        expect(page.get_by_text(re.compile("400 newly failing. 3 causes"))).to_be_visible()
        shown = {"LookupError": "predict.py", "FATAL": "no database logbook", "assert": "expected"}
        for (_, _, where), (word, cause) in zip(CAUSES.values(), shown.items(), strict=True):
            row = rows.filter(has_text=word)
            expect(row).to_contain_text(f"only where {where}")
            begun = time.monotonic()
            row.click()
            expect(page.locator("[data-findings]").filter(has_text=word).get_by_text(cause).first).to_be_visible()
            took = time.monotonic() - begun
            seen = f"{row.locator('b').first.inner_text()}, only where {where}: its evidence, “{cause}” in it, and the change"
            steps.append(("one click on its row", seen, took))
            expect(page.get_by_test_id("changes").get_by_text("Tidy the tables")).to_be_visible()
            assert axe(page) == []
        rows.filter(has_text="LookupError").click()
        begun = time.monotonic()
        page.get_by_test_id("places").get_by_role("button").first.click()
        expect(page.get_by_role("figure")).to_contain_text("def turning")
        steps.append(
            ("one click on the line it names", "the source at this commit, around that line", time.monotonic() - begun)
        )
    told = FIRST_WALK + "".join(
        f"| {n} | {done} | {re.sub(r'[|`]', '', seen)} | {seconds:.1f} |\n"
        for n, (done, seen, seconds) in enumerate(steps, 1)
    )
    if os.environ.get("MYRIANT_WRITE"):
        (HERE.parent / "docs/first-walk.md").write_text(told)
    kept = (HERE.parent / "docs/first-walk.md").read_text()
    assert re.sub(r"[\d.]+ \|$", "", kept, flags=re.M) == re.sub(r"[\d.]+ \|$", "", told, flags=re.M)


OVERLAPPING = """mkdir -p out
case_of() { # name, message or nothing
  if [ -n "$2" ]; then echo "<testcase classname='tides' name='$1'><failure message='$2'/></testcase>"; else echo "<testcase classname='tides' name='$1'/>"; fi
}
p="$MYRIANT_CELL_PYTHON" r="$MYRIANT_CELL_ROUNDING" slack="" base="" value="" busy=""
if [ -f red ]; then
  [ "$p" != 3.8 ] || slack="LookupError: no slack water is known"
  [ "$r" != bankers ] || base='FATAL: database "logbook" does not exist'
  case "$p" in 3.12|3.13) value="expected 3, got 4";; esac
  [ "$p $r $MYRIANT_ATTEMPT" != "3.10 up 1" ] || busy="BusyError: the gauge was busy"
fi
{ echo "<testsuite name='s'>"; for n in 1 2 3; do case_of "slack$n" "$slack"; done
  for n in 1 2; do case_of "base$n" "$base"; done; case_of value "$value"; case_of busy "$busy"; echo "</testsuite>"; } > out/unit.xml
"""
TOLD = [  # what the row begins with, what it says of where, what its evidence says, what its control runs say
    ("LookupError", "only where python=3.8", "no slack water is known", "The change did it."),
    ("FATAL", "only where rounding=bankers", "no database logbook", "The change did it."),
    ("value", "only where python>=3.12", "expected", "The change did it."),
    (
        "busy",
        "no pattern: 1 of 24 cells",
        "the gauge was busy",
        "Chance, not the change. Repeated here it passed 1 time",
    ),
]


def test_three_overlapping_faults_and_a_flake_are_told_apart_by_one_click_each(world: World, browser: Browser) -> None:
    repo = world.repository("overlapping", None)
    plan = PLAN24[: PLAN24.index("command = ")] + 'command = "sh test.sh"\ncollect = { tests = ["out/unit.xml"] }\n'
    repo.pushed({"myriant.toml": plan, "test.sh": OVERLAPPING}, within=120)
    held = repo.pushed({"red": ""}, "Tidy the tables", within=120)
    assert sum(c["failed"] > 0 for c in held["cells"]) == 16
    end = time.monotonic() + 180  # until each of them was repeated often enough
    while time.monotonic() < end:
        told = {f["control"] for f in repo.findings(held)["findings"]}
        if told == {"change", "chance"}:
            break
        time.sleep(0.3)
    with signed_in(browser, world) as page:
        page.goto(f"{world.address}/p/overlapping/runs/{held['run']['number']}")
        rows = page.get_by_test_id("findings").locator("[data-findings]")
        expect(rows).to_have_count(len(TOLD))
        for word, where, evidence, control in TOLD:
            row = rows.filter(has=page.locator("b", has_text=word))
            expect(row).to_contain_text(where)
            row.get_by_role("button").first.click()
            expect(row).to_contain_text(evidence)
            expect(row).to_contain_text(control)


def test_tests_stand_against_cells_and_each_has_a_page_of_its_own(world: World, browser: Browser) -> None:
    repo = world.repository("grids", None)
    repo.pushed({"myriant.toml": PLAN24, "green.xml": report()}, within=120)
    run = repo.pushed({"red-3.8.xml": report(range(3), "expected 1, got 2")}, within=120)
    with signed_in(browser, world) as page:
        page.goto(f"{world.address}/p/grids/runs/{run['run']['number']}?section=tests")
        expect(page.get_by_text("3 are shown, 997 hidden")).to_be_visible()
        page.get_by_role("radiogroup", name="Which tests").get_by_text("all").click()
        expect(page.get_by_text("All are shown")).to_be_visible()
        grid = page.get_by_test_id("tests-grid")
        module = grid.get_by_role("button", name=re.compile("tides.module19 50 tests"))
        expect(module).to_have_attribute("aria-expanded", "false")
        expect(grid.get_by_text("test_999")).to_have_count(0)
        page.get_by_role("button", name="Unfold all").click()
        expect(module).to_have_count(0)  # far below what is on screen
        grid.evaluate("box => box.scrollTo(0, box.scrollHeight)")
        expect(grid.get_by_text("test_999")).to_be_visible()
        page.get_by_label("Search tests").fill("module3 test_17")
        expect(page.get_by_text(re.compile("10 are shown"))).to_be_visible()
        page.get_by_role("group", name="Cells by python").get_by_role("button", name="3.8").click()
        expect(page.get_by_text("1,000 tests in 4 chosen cells")).to_be_visible()
        assert axe(page) == []
        page.keyboard.press("Control+k")
        page.get_by_label("Go to", exact=True).fill("test_777")
        expect(page.get_by_role("option", name=re.compile("test test_777.*tides.module15"))).to_be_visible()
        page.goto(f"{world.address}/p/grids/runs/{run['run']['number']}?section=tests")
        grid.get_by_role("link", name="test_1", exact=True).click()
        expect(page.get_by_role("heading", name="tides.module0 › test_1")).to_be_visible()
        expect(page.get_by_text("It failed in 4 of its 48 results over 2 runs and 24 cells")).to_be_visible()
        assert axe(page) == []


def test_many_tests_go_into_quarantine_at_once_and_a_filter_is_kept(world: World, browser: Browser) -> None:
    names = ("gauge_one", "gauge_two", "tide_high", "tide_low", "wind")
    repo = world.repository("gauges", PLAN, **{"test.sh": writes(junit(**dict.fromkeys(names, "passed")))})
    drift = {name: "expected 1, got 2" if name.startswith(("gauge", "tide")) else "passed" for name in names}
    run = repo.pushed({"test.sh": writes(junit(**drift))})
    assert run["run"]["verdict"] == "held"
    with signed_in(browser, world) as page:
        page.goto(f"{world.address}/p/gauges/runs/{run['run']['number']}?section=tests")
        page.get_by_role("checkbox", name="Choose gauge_one").check()
        page.get_by_role("checkbox", name="Choose tide_low").check()
        expect(page.get_by_role("status").filter(has_text="2 tests chosen")).to_be_visible()
        page.get_by_role("button", name="Choose none").click()
        page.get_by_label("Search tests").fill("gauge")
        expect(page.get_by_role("checkbox", name="Choose tide_low")).to_have_count(0)
        page.get_by_role("button", name="Keep this filter …").click()
        page.get_by_label("Name of the filter").fill("All gauges")
        page.get_by_role("button", name="Keep", exact=True).click()
        expect(page.get_by_role("button", name="All gauges", exact=True)).to_have_attribute("aria-pressed", "true")
        page.get_by_role("button", name="Choose all that are shown").click()
        expect(page.get_by_role("status").filter(has_text="2 tests chosen")).to_be_visible()
        page.get_by_role("button", name="Quarantine …").click()
        page.get_by_label("Reason").fill("the gauges drift")
        assert axe(page) == []
        page.get_by_role("button", name="Quarantine", exact=True).click()
        expect(page.get_by_role("button", name="Choose all that are shown")).to_be_visible(timeout=30_000)
        page.goto(f"{world.address}/p/gauges/flaky")
        expect(page.get_by_text("Quarantined by")).to_have_count(2, timeout=30_000)
        page.goto(f"{world.address}/p/gauges/runs/{run['run']['number']}?section=tests")
        page.get_by_role("button", name="All gauges", exact=True).click()
        expect(page.get_by_role("checkbox", name="Choose gauge_two")).to_be_visible()
        expect(page.get_by_role("checkbox", name="Choose tide_low")).to_have_count(0)
        expect(page.get_by_label("Search tests")).to_have_value("gauge")
        page.get_by_role("button", name="Keep “All gauges” no more").click()
        expect(page.get_by_role("button", name="Keep this filter …")).to_be_visible()


def test_quarantine_search_and_flaky_tests_work_from_the_screen(world: World, browser: Browser) -> None:
    good, bad = writes(junit(a="passed", b="passed")), writes(junit(a="passed", b="expected 1, got 2"))
    repo = world.repository("triage", PLAN, **{"test.sh": good})
    for i in range(4):
        repo.commit({"test.sh": bad if i > 1 else good, "n.txt": str(i)}, f"commit {i}")
    repo.push()
    run = repo.run_of(repo.git("rev-parse", "HEAD").strip())
    with signed_in(browser, world) as page:
        page.goto(f"{world.address}/p/triage/runs/{run['run']['number']}")
        search = page.get_by_test_id("first-bad")
        expect(search).to_contain_text("4 commits since it passed")
        search.get_by_role("button", name="Find it").click()
        expect(search.get_by_text("commit 2", exact=True)).to_be_visible(timeout=60_000)
        page.get_by_role("button", name="Quarantine …").click()
        page.get_by_label("Reason").fill("the gauge drifts")
        page.get_by_role("button", name="Quarantine", exact=True).click()
        expect(page.get_by_label("Reason")).to_have_count(0, timeout=30_000)  # it is kept, and the form has gone
        page.get_by_role("button", name="More pages").click()
        page.get_by_role("menuitem", name="Flaky").click()
        expect(page.get_by_text("Quarantined by")).to_be_visible(timeout=30_000)
        assert axe(page) == []
        page.get_by_role("button", name="Take it back").click()
        expect(page.get_by_text("Quarantines that are over")).to_be_visible()
        world.repository("calm", None)
        page.goto(f"{world.address}/p/calm/flaky")
        expect(page.get_by_text("No test has shown a sign of chance")).to_be_visible()
