"""The strip with 2,000 runs × 24 cells: frames a second while it scrolls, and the first paint of a project's page."""

from __future__ import annotations

from playwright.sync_api import Page, sync_playwright
from sqlalchemy import text
from tests.bench.measure import report
from tests.bench.place import installed

from myriant.store.engine import Store

RUNS, CELLS = 2_000, 24
FLAGS = "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync"
_SCROLL = """
async (pixels) => {
  const box = document.querySelector('[data-testid="strip-scroller"]');
  box.scrollLeft = box.scrollWidth;
  const frames = [];
  let last = performance.now();
  for (let i = 0; i < 180; i++) {
    await new Promise(requestAnimationFrame);
    const now = performance.now();
    frames.push(now - last);
    last = now;
    box.scrollLeft -= pixels;
  }
  frames.sort((a, b) => a - b);
  return [1000 * frames.length / frames.reduce((a, b) => a + b), frames[Math.floor(frames.length * 0.95)]];
}
"""


def measure(samples: int = 5) -> None:
    with installed() as installation:
        assert installation.site is not None
        _fill(installation.site.store)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS.split())
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(installation.link())
            page.wait_for_url(installation.address + "/")
            paints = [_first_paint(page, f"{installation.address}/p/large") for _ in range(samples)]
            report("first contentful paint of a project's page", paints, "s", limit=1)
            _load_all(page)
            found = [page.evaluate(_SCROLL, 40) for _ in range(samples)]
            report(
                "frames a second while the strip scrolls",
                [f[0] for f in found],
                "1/s",
                runs=RUNS,
                cells=CELLS,
                at_least=50,
            )
            report("the slowest twentieth of frames", [f[1] / 1000 for f in found], "s")


def _first_paint(page: Page, address: str) -> float:
    page.goto("about:blank")
    page.goto(address)
    page.get_by_test_id("sentence").wait_for()
    milliseconds = page.evaluate("performance.getEntriesByName('first-contentful-paint')[0].startTime")
    return float(milliseconds) / 1000


def _load_all(page: Page) -> None:
    """Scroll to the left until every run is there."""
    for _ in range(60):
        page.evaluate("document.querySelector('[data-testid=\"strip-scroller\"]').scrollLeft = 0")
        page.wait_for_timeout(150)
        label = page.get_by_role("img", name="Strip of").get_attribute("aria-label") or ""
        if str(RUNS) in label:
            return
    raise AssertionError(label)


def _fill(store: Store) -> None:
    with store.transaction() as session:
        session.execute(text("INSERT INTO project (name, address, next_number) VALUES ('large', '/nowhere', 9999)"))
        session.execute(
            text(
                "INSERT INTO run (project_id, number, event, context, branch, commit_id, title, author, state, verdict, sentence, depth, created_at, "
                "started_at, ended_at) SELECT 1, n, 'push', 'push main', 'main', md5(n::text) || '00000000', 'Change number ' || n, 'Ingrid Halloway', "
                "'passed', CASE WHEN n % 9 = 0 THEN 'held' ELSE 'clear' END, 'Clear: 900 of 900 tests passed.', n, now() - (2000 - n) * interval '3 hours', "
                "now(), now() FROM generate_series(1, :runs) n"
            ),
            {"runs": RUNS},
        )
        session.execute(
            text(
                "INSERT INTO cell (run_id, job, job_title, position, key, dimension_values, wants, state, mark) "
                "SELECT r, 'unit', 'Unit', c, 'cell=' || c, '{}', '{}', 'passed', "
                "CASE WHEN (r * 31 + c * 17) % 97 < 3 THEN 'new' WHEN (r * 7 + c) % 211 = 0 THEN 'void' ELSE 'passed' END "
                "FROM generate_series(1, :runs) r, generate_series(1, :cells) c ORDER BY r, c"
            ),
            {"runs": RUNS, "cells": CELLS},
        )
        session.execute(text("ANALYZE"))
