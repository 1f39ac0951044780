"""A log of 200 MB and a million and more lines: into the server, on the screen while it grows, read, searched."""

from __future__ import annotations

import json
import subprocess
import time
from pathlib import Path

from tests.bench.measure import report
from tests.bench.place import installed, watched_repository
from tests.chromium import FLAGS

from myriant.demo.scenario import git
from myriant.flow.views.desk.projects import project_line
from myriant.flow.views.evidence.log import log_lines, search_log, usual_lines
from myriant.flow.views.run.page import run_view

PLAN = """version = 1
[jobs.loud]
timeout = "10 min"
limits = { output = "300 MiB" }
[[jobs.loud.steps]]
name = "tick"
command = "for i in $(seq 1 60); do date +tick-%%s.%%N; sleep 0.1; done"
[[jobs.loud.steps]]
name = "flood"
command = "seq -f 'line %%.0f of the flood: the water stands at the gauge of Heron Reach, nothing of note happened since; see the table of the day and hang it up at the office. The keeper of the lock has been told about it' 1 %d; mkdir -p out; echo '<testsuite><testcase name=\\"a\\"/></testsuite>' > out/a.xml"
collect = { tests = ["out/a.xml"] }
"""


def measure(lines: int = 1_050_000) -> None:
    from playwright.sync_api import sync_playwright

    with installed(slots=1) as installation:
        site = installation.site
        assert site is not None
        tree = watched_repository(installation, "loud", PLAN % lines)
        server = next(p.process for p in installation.parts.parts if p.name == "server")
        assert server is not None
        before = _memory(server.pid)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
            page = browser.new_page(viewport={"width": 1280, "height": 800})
            page.goto(installation.link())
            page.wait_for_timeout(800)
            git(tree, "-c", "user.name=a", "-c", "user.email=a@fenmark.example", "commit", "-q", "-m", "loud")
            git(tree, "push", "--quiet", "origin", "HEAD:main")
            page.goto(f"{installation.address}/p/loud/runs/1?section=evidence")
            lags = _live_lag(page)
            report("log: from printed to seen, live", lags, "s", p95=round(sorted(lags)[int(0.95 * len(lags))], 3))
            began = time.monotonic()
            most = before
            while (newest := project_line(site, "loud").newest) is None or newest.verdict == "undecided":
                most = max(most, _memory(server.pid))
                time.sleep(0.1)
            seconds = time.monotonic() - began
            attempt = run_view(site, "loud", 1).cells[0].attempt_id
            assert attempt is not None and newest.verdict == "clear", newest
            size = log_lines(site, attempt, 1, 0).state
            report("log: printed, sent, stored", [size.size / seconds / 1e6], "MB/s", bytes=size.size, lines=size.lines)
            kept = sum(f.stat().st_size for f in (installation.place.blobs / "logs" / str(attempt)).iterdir())
            report("log: bytes kept for a byte printed", [kept / size.size], "ratio")
            report("log: growth of the server's memory", [(most - before) / 1e6], "MB")
            page.reload()
            page.wait_for_timeout(3000)
            used = json.loads(json.dumps(page.evaluate("performance.memory ? performance.memory.usedJSHeapSize : 0")))
            jumps = []
            for at in (0.5, 0.99, 0.1, 0.75, 0.3):
                begun = time.perf_counter()
                page.evaluate(f"document.querySelector('[data-testid=log]').scrollTop = {at} * {size.lines} * 19")
                wanted = int(at * size.lines)
                page.wait_for_function(
                    "w => [...document.querySelectorAll('[data-testid=log] [data-index]')].some(r => Math.abs(r.dataset.index - w) < 60 && r.textContent.includes('line'))",
                    arg=wanted,
                )
                jumps.append(time.perf_counter() - begun)
            report("log: from a jump to its lines on the screen", jumps, "s")
            report("log: memory of the page (JavaScript heap)", [used / 1e6], "MB")
            browser.close()
        for name, work in (
            ("search of a text in the last line", lambda: search_log(site, attempt, f"line {lines} of")),
            ("search of a text that is nowhere", lambda: search_log(site, attempt, "no such tide")),
            ("what of it is usual", lambda: usual_lines(site, attempt)),
            ("400 lines in the middle", lambda: log_lines(site, attempt, lines // 2, 400)),
        ):
            times = []
            for _ in range(3):
                begun = time.perf_counter()
                work()
                times.append(time.perf_counter() - begun)
            report(f"log: {name}", times, "s")
        file = installation.place.data / "copy"
        begun = time.perf_counter()
        token = json.loads(installation.place.connection.read_text())["token"]
        subprocess.run(
            [
                "curl",
                "-s",
                "-o",
                str(file),
                "-H",
                f"Authorization: Bearer {token}",
                f"{installation.address}/api/v1/attempts/{attempt}/log/raw",
            ],
            check=True,
        )
        report("log: download", [file.stat().st_size / (time.perf_counter() - begun) / 1e6], "MB/s")


def _live_lag(page: object) -> list[float]:
    """Seconds between a line's own time and its being on the screen, for the ticks of the first step."""
    return list(
        page.evaluate(  # type: ignore[attr-defined]
            """() => new Promise(done => {
              const seen = new Map();
              const look = () => {
                for (const row of document.querySelectorAll('[data-testid=log] [data-index]')) {
                  const found = /tick-([0-9.]+)/.exec(row.textContent);
                  if (found && !seen.has(found[1])) seen.set(found[1], Date.now() / 1000 - Number(found[1]));
                }
                if (seen.size >= 45) done([...seen.values()].slice(3));
                else requestAnimationFrame(look);
              };
              look();
              setTimeout(() => done([...seen.values()].slice(3)), 12000);
            })"""
        )
    )


def _memory(pid: int) -> int:
    """Resident bytes of a process."""
    return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * 4096
