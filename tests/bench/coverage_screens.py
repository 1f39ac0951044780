"""The section Coverage with 5,000 files, and a file of 20,000 lines: time to content, and to what a press brings."""

from __future__ import annotations

import time
from pathlib import Path

from playwright.sync_api import Page, sync_playwright
from tests.bench.measure import report
from tests.bench.place import installed, watched_repository

from chromium import FLAGS
from myriant.demo.people import YUKI
from myriant.demo.scenario import commit, git
from myriant.flow.site import Site
from myriant.flow.views.desk.projects import project_line

FILES, LONG = 5000, 20_000
PLAN = """version = 1
[jobs.unit]
runtime = ["lua"]
vary = { lua = ["5.1", "5.4"] }
[[jobs.unit.steps]]
command = "mkdir -p out; cp report.xml out/; cp lcov.txt out/lcov.info"
collect = { tests = ["out/report.xml"], coverage = ["out/lcov.info"] }
"""


def measure(samples: int = 5) -> None:
    with installed(slots=2) as installation:
        site = installation.site
        assert site is not None
        tree = watched_repository(installation, "large", PLAN)
        _fill(tree)
        commit(tree, YUKI, "Many files")
        git(tree, "push", "--quiet", "origin", "HEAD:main")
        _judged(site)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
            page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
            page.goto(installation.link())
            page.wait_for_url(f"{installation.address}/")
            rows = [_look(page, installation.address) for _ in range(samples + 1)][1:]
            for i, name in enumerate(
                (
                    f"coverage of {FILES:,} files: content",
                    "of them: what is searched for stands there",
                    f"a file of {LONG:,} lines: content",
                    "of it: its last line stands there",
                )
            ):
                report(name, [row[i] for row in rows], "s")
            browser.close()


def _fill(tree: Path) -> None:
    rows = []
    for n in range(FILES):
        path = tree / f"src/reach{n % 50}/lock_{n}.lua"
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text("local a = 1\n" * 20)
        rows.append(f"SF:src/reach{n % 50}/lock_{n}.lua\n" + "".join(f"DA:{i},{(n + i) % 3}\n" for i in range(1, 21)))
    (tree / "src/long.lua").write_text("local level = 1 -- at the gauge\n" * LONG)
    rows.append("SF:src/long.lua\n" + "".join(f"DA:{i},{i % 2}\n" for i in range(1, LONG + 1)))
    (tree / "lcov.txt").write_text("".join(f"{row}end_of_record\n" for row in rows))
    (tree / "report.xml").write_text("<testsuite name='s'><testcase name='lock'/></testsuite>")


def _judged(site: Site) -> None:
    while (newest := project_line(site, "large").newest) is None or newest.ended_at is None:
        time.sleep(0.2)
    assert newest.verdict == "clear", newest.sentence


def _look(page: Page, address: str) -> tuple[float, float, float, float]:
    begun = time.perf_counter()
    page.goto(f"{address}/p/large/runs/1?section=coverage")
    page.get_by_role("region", name="Files").get_by_role("listitem").first.wait_for()
    page.locator("canvas, svg").first.wait_for()
    content = time.perf_counter()
    page.get_by_label("Find a file").fill("lock_4999")
    page.get_by_role("button", name="lock_4999.lua").wait_for()
    found = time.perf_counter()
    page.goto(f"{address}/p/large/runs/1?section=coverage&file=src%2Flong.lua")
    page.get_by_text("local level").first.wait_for()
    opened = time.perf_counter()
    page.goto(f"{address}/p/large/runs/1?section=coverage&file=src%2Flong.lua&line={LONG}")
    page.get_by_text(str(LONG), exact=True).first.wait_for()
    return content - begun, found - content, opened - found, time.perf_counter() - opened
