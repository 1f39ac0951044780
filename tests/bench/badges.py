"""Badges: bytes, how long one takes while four readers ask as fast as they can, and how far it lags behind a verdict."""

from __future__ import annotations

import random
import re
import statistics
import threading
import time
from datetime import UTC, datetime

import httpx
from tests.bench.measure import report

from worlds import PLAN, Repository, World, junit, one_installation, writes

KINDS = ("verdict", "tests", "coverage")
READERS = 4


def measure(seconds: float = 12.0, pushes: int = 10) -> None:
    with one_installation("myriant-badges-") as world:
        repo = world.repository("badges", PLAN, test__sh=writes(junit(a="passed", b="passed")))
        key = world.http.post("/projects/badges/badge-key").json()["key"]
        urls = {kind: f"{world.address}/api/v1/badges/{key}/{kind}.svg" for kind in KINDS}
        for kind, url in urls.items():
            report(
                f"badge {kind}: size", [float(len(httpx.get(url, trust_env=False).raise_for_status().content))], "bytes"
            )
        _under_load(urls["verdict"], f"{world.address}/healthz", seconds)
        lags = [
            _lag(world, repo.name, urls["verdict"], _push(repo, n), "clear" if n % 2 else "held") for n in range(pushes)
        ]
        report("badge: behind the verdict", lags, "s")


def _under_load(url: str, baseline: str, seconds: float) -> None:
    """Readers ask for the badge and for the server's health in turns."""
    took: dict[str, list[float]] = {url: [], baseline: []}
    end = time.monotonic() + seconds

    def read() -> None:
        with httpx.Client(trust_env=False) as client:
            while time.monotonic() < end:
                for address in random.sample((url, baseline), 2):
                    began = time.perf_counter()
                    client.get(address).raise_for_status()
                    took[address].append(time.perf_counter() - began)

    threads = [threading.Thread(target=read) for _ in range(READERS)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    for name, address in (("badge", url), ("health", baseline)):
        mine = sorted(took[address])
        p99 = mine[int(len(mine) * 0.99)]
        report(f"{name} under load", mine, "s", p99=round(p99, 4), a_minute=round(len(mine) * 60 / seconds))
    ratio = statistics.median(took[url]) / statistics.median(took[baseline])
    report("badge against health, medians", [ratio], "ratio")


def _push(repo: Repository, number: int) -> str:
    outcome = "passed" if number % 2 else f"adrift {number}"
    commit = repo.commit({"test.sh": writes(junit(a="passed", b=outcome))}, f"Change {number}")
    repo.push()
    return commit


def _lag(world: World, project: str, url: str, commit: str, verdict: str) -> float:
    """From the end of the run, by the database, to the first badge that shows its verdict."""
    with httpx.Client(trust_env=False) as client:
        while True:
            said = re.search(r"<title>([^<]*)</title>", client.get(url).text)
            if said and verdict in said[1]:
                break
            time.sleep(0.01)
    seen = datetime.now(UTC)
    while not (word := world.word(commit, project)) or not word["final"]:
        time.sleep(0.05)
    ended = datetime.fromisoformat(world.get(f"/projects/{project}/runs/{word['run']}")["run"]["ended_at"])
    return max(0.0, (seen - ended).total_seconds())
