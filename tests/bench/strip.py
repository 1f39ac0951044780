"""A project of 2,000 runs × 48 cells: bytes and time of its first page and of another run, on a slow machine too;
frames a second while the strip scrolls.
"""

from __future__ import annotations

from playwright.sync_api import Browser, Page, sync_playwright
from sqlalchemy import text
from tests.bench.measure import report
from tests.bench.place import installed

from myriant.store.engine import Store

RUNS, CELLS = 2_000, 48
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
            _pages(browser, page, f"{installation.address}/p/large", samples)
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
            session = page.context.new_cdp_session(page)
            session.send("HeapProfiler.collectGarbage")
            held = session.send("Runtime.getHeapUsage")["usedSize"] / 1e6
            report("memory of the page with every run", [held], "MB", runs=RUNS, cells=CELLS)


_ALL = """
(runs) => {
  document.querySelector('[data-testid="strip-scroller"]').scrollLeft = 0;
  return document.querySelector('[role="img"][aria-label^="Strip of"]').getAttribute('aria-label').includes(runs);
}
"""
_WATCH = """
window.long = 0;
new PerformanceObserver((list) => { for (const task of list.getEntries()) window.long += task.duration; })
  .observe({type: 'longtask', buffered: true});
"""
_THERE = """(words) => document.querySelector('[data-stale="false"]')?.textContent.includes(words)"""


def _pages(browser: Browser, signed: Page, address: str, samples: int) -> None:
    """Each time as somebody who was never here: nothing is cached."""
    for slower in (1, 4):
        wire, content, blocked, change = [], [], [], []
        for _ in range(samples):
            context = browser.new_context(
                viewport={"width": 1280, "height": 800}, storage_state=signed.context.storage_state()
            )
            page = context.new_page()
            session = context.new_cdp_session(page)
            session.send("Network.enable")
            session.send("Emulation.setCPUThrottlingRate", {"rate": slower})
            sizes: list[float] = []
            session.on("Network.loadingFinished", lambda told, sizes=sizes: sizes.append(told["encodedDataLength"]))
            page.add_init_script(_WATCH)
            page.goto(address)
            page.get_by_test_id("sentence").wait_for()
            content.append(page.evaluate("performance.now()") / 1000)
            page.wait_for_load_state("load")
            page.wait_for_timeout(1500)
            wire.append(sum(sizes))
            blocked.append(page.evaluate("window.long") / 1000)
            page.evaluate("window.begun = performance.now()")
            page.keyboard.press("ArrowLeft")
            page.wait_for_function(_THERE, arg=f"Change number {RUNS - 1}")
            change.append(page.evaluate("performance.now() - window.begun") / 1000)
            context.close()
        at = {"slower": slower, "runs": RUNS, "cells": CELLS}
        report("first page: bytes over the wire", wire, "B", **at)
        report("first page: until the sentence stands", content, "s", **at)
        report("first page: in tasks of more than 50 ms", blocked, "s", **at)
        report("another run: until it stands", change, "s", **at)


def _first_paint(page: Page, address: str) -> float:
    page.goto("about:blank")
    page.goto(address)
    page.get_by_test_id("sentence").wait_for()
    milliseconds = page.evaluate("performance.getEntriesByName('first-contentful-paint')[0].startTime")
    return float(milliseconds) / 1000


def _load_all(page: Page) -> None:
    """Scroll to the left until every run is there."""
    page.wait_for_function(_ALL, arg=str(RUNS), timeout=60_000, polling=50)


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
