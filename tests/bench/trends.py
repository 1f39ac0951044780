"""Changes of level in generated series beside two plain methods; trends and replays over 5,000 runs × 48 cells."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray
from playwright.sync_api import sync_playwright
from scipy.stats import ttest_ind
from sqlalchemy import text
from tests.bench.measure import report, timed
from tests.bench.place import installed
from tests.bench.strip import FLAGS

from myriant.cli.up import Installation
from myriant.core.trends.changes import changes
from myriant.flow.site import Site
from myriant.flow.views.plan.replay import replay_of
from myriant.flow.views.strip import strip_of
from myriant.flow.views.trends.page import trends_of

Values = NDArray[np.float64]
SERIES, LENGTH, NEAR = 250, 200, 5
RUNS, CELLS = 5000, 48


def _white(rng: np.random.Generator) -> Values:
    return 100 + rng.normal(0, 5, LENGTH)


def _heavy(rng: np.random.Generator) -> Values:
    return 100 + rng.standard_t(2, LENGTH) * 4


def _machines(rng: np.random.Generator) -> Values:
    return np.where(rng.random(LENGTH) < 0.5, 100, 130) + rng.normal(0, 4, LENGTH)


def _lasting(rng: np.random.Generator) -> Values:
    return 100 + 3 * np.convolve(rng.normal(0, 4, LENGTH + 4), np.ones(5) / 5, "valid")


NOISES: dict[str, Callable[[np.random.Generator], Values]] = {
    "white noise": _white,
    "heavy tails": _heavy,
    "two machines": _machines,
    "noise that lasts": _lasting,
}


def _deviations(values: Values) -> list[int]:
    """Plain: beyond three standard deviations of the last twenty."""
    found, i = [], 20
    while i < len(values):
        past = values[i - 20 : i]
        if abs(values[i] - past.mean()) > 3 * past.std():
            found.append(i)
            i += 20
        i += 1
    return found


def _windows(values: Values) -> list[int]:
    """Plain: Welch's test of the next ten against the last ten, at 0.001, the sharpest within twenty."""
    parts = np.lib.stride_tricks.sliding_window_view(values, 10)
    p = ttest_ind(parts[:-10], parts[10:], axis=1, equal_var=False).pvalue
    found: list[int] = []
    for i in np.argsort(p):
        if p[i] > 0.001:
            break
        if all(abs(int(i) + 10 - f) > 20 for f in found):
            found.append(int(i) + 10)
    return found


METHODS: dict[str, Callable[[Values], list[int]]] = {
    "ranks": lambda v: [c.at for c in changes(v)],
    "three deviations": _deviations,
    "windows": _windows,
}


def _table() -> None:
    for noise, make in NOISES.items():
        for name, method in METHODS.items():
            rng = np.random.default_rng(5)
            alarms = sum(bool(method(make(rng))) for _ in range(SERIES))
            found, extra, off = 0, 0, []
            for _ in range(SERIES):
                values, at = make(rng), int(rng.integers(20, LENGTH - 20))
                values[at:] += rng.uniform(10, 40)
                told = method(values)
                near = [t for t in told if abs(t - at) <= NEAR]
                found, extra = found + bool(near), extra + len(told) - len(near)
                off += [abs(near[0] - at)] if near else []
            line = {
                "measure": "changes of level",
                "noise": noise,
                "method": name,
                "series": SERIES,
                "false alarms": round(alarms / SERIES, 3),
                "found": round(found / SERIES, 3),
                "others named": round(extra / SERIES, 2),
                "runs off": round(float(np.mean(off)), 2) if off else None,
            }
            print(json.dumps(line), flush=True)


def _of_this_machine(count: int) -> Values:
    """How long one and the same program takes on this machine, again and again, with whatever else it does."""
    program = ["lua5.4", "-e", "local s = 0; for i = 1, 6e6 do s = s + i % 7 end"]
    return np.array([timed(lambda: subprocess.run(program, check=True)) for _ in range(count)])


def _real_noise() -> None:
    """The same methods on real durations: stretches of one long series as they are, and with a shift put into them."""
    whole = _of_this_machine(2 * LENGTH)
    for name, method in METHODS.items():
        rng = np.random.default_rng(9)
        starts = rng.integers(0, LENGTH, 50)
        alarms = sum(bool(method(whole[s : s + LENGTH])) for s in starts)
        for share in (0.2, 0.5):
            found, off = 0, []
            for s in starts:
                values, at = whole[s : s + LENGTH].copy(), int(rng.integers(20, LENGTH - 20))
                values[at:] *= 1 + share
                near = [t for t in method(values) if abs(t - at) <= NEAR]
                found, off = found + bool(near), off + ([abs(near[0] - at)] if near else [])
            line = {
                "measure": "changes of level",
                "noise": "this machine",
                "method": name,
                "series": len(starts),
                "shift": share,
                "false alarms": round(alarms / len(starts), 3),
                "found": round(found / len(starts), 3),
                "runs off": round(float(np.mean(off)), 2) if off else None,
                "spread": round(float(np.std(whole) / np.median(whole)), 3),
            }
            print(json.dumps(line), flush=True)


def _fill(site: Site, runs: int) -> None:
    with site.store.transaction() as session:
        session.execute(text("INSERT INTO project (name, address, next_number) VALUES ('long', '/nowhere', 100000)"))
        session.execute(
            text(
                "INSERT INTO run (project_id, number, event, context, branch, commit_id, state, verdict, depth, title, measures, judged,"
                " created_at, started_at, ended_at) SELECT 1, n, 'push', 'push main', 'main', lpad(n::text, 40, '0'), 'passed',"
                " CASE WHEN n % 17 = 0 THEN 'held' ELSE 'clear' END, n, 'commit ' || n, jsonb_build_object('jobs', jsonb_build_object('unit',"
                " jsonb_build_object('tests.new', (n % 17 = 0)::int, 'tests.known', 0, 'tests.fixed', 0, 'tests.passed', 20000, 'tests.failed', 0,"
                " 'tests.errored', 0, 'tests.skipped', 3, 'tests.flaky', 0, 'tests.total', 20003))), '[]', now() - make_interval(mins => (:runs - n) * 10),"
                " now() - make_interval(mins => (:runs - n) * 10, secs => -5),"
                " now() - make_interval(mins => (:runs - n) * 10, secs => -60 - (n / 2500) * 20 - random() * 8) FROM generate_series(1, :runs) n"
            ),
            {"runs": runs},
        )
        session.execute(
            text(
                "INSERT INTO cell (run_id, job, job_title, position, key, dimension_values, wants, state, attempt_id, counts)"
                " SELECT r, 'unit', 'unit', c, 'n=' || c, jsonb_build_object('n', c::text), '{}', 'passed', (r - 1) * :cells + c,"
                " jsonb_build_object('new', (r % 17 = 0 AND c % 5 = 0)::int)"
                " FROM generate_series(1, :runs) r, generate_series(1, :cells) c ORDER BY r, c"
            ),
            {"runs": runs, "cells": CELLS},
        )
        session.execute(
            text(
                "INSERT INTO attempt (cell_id, number, state, runner, lease_digest, lease_until, created_at, started_at, ended_at)"
                " SELECT id, 1, 'passed', '', '', now(), now(), now(), now() + make_interval(secs => 20) FROM cell ORDER BY id"
            )
        )
    with site.store.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(text("ANALYZE"))


def measure() -> None:
    _table()
    _real_noise()
    for runs in (RUNS // 10, RUNS):
        with installed() as installation:
            site = installation.site
            assert site is not None
            _fill(site, runs)
            rules = 'version = 1\n[jobs.u]\nruntime = ["lua"]\nvary = { lua = ["5.4"] }\n[[jobs.u.steps]]\ncommand = "true"\n'
            rules += '[[gate.rules]]\nmeasure = "tests.new"\nat-most = 0\n[[gate.rules]]\nmeasure = "seconds.total"\nat-most = 90\n'
            for name, work in (
                ("trends of 150 runs", lambda: trends_of(site, "long", None, 150)),  # noqa: B023
                ("trends of 5,000 runs", lambda: trends_of(site, "long", None, 5000)),  # noqa: B023
                ("a gate replayed over 1,000 runs", lambda: replay_of(site, "long", rules, None, 1000)),  # noqa: B023
                ("the strip of 2,000 runs", lambda: strip_of(site, "long", None, None, 2000)),  # noqa: B023
            ):
                work()
                report(f"{name}, of {runs} × {CELLS}", [timed(work) for _ in range(5)], "s")
            _page(installation, runs)


def _page(installation: Installation, runs: int) -> None:
    """Over HTTP, and until the charts of the newest 500 and of all runs stand."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS.split())
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(installation.link())
        page.wait_for_url(installation.address + "/")
        ask = "async (n) => { const t = performance.now(); const a = await fetch(`/api/v1/projects/long/trends?runs=${n}`); await a.text(); return performance.now() - t; }"
        for count in (500, 5000):
            answers = [page.evaluate(ask, count) / 1000 for _ in range(7)]
            report(f"trends of {count} runs over HTTP, of {runs} × {CELLS}", answers[2:], "s", limit=0.1)
            shown = []
            for _ in range(5):
                page.goto("about:blank")
                page.goto(f"{installation.address}/p/long/trends?runs={count}")
                page.locator("figure svg path, figure canvas").first.wait_for(state="attached")
                shown.append(page.evaluate("performance.now()") / 1000)
            report(f"the page of trends of {count} runs, of {runs} × {CELLS}", shown, "s", limit=1)
        browser.close()
