"""From the last cell's end to the outcome at a host and the note in git; a hundred endings at once; a gate replayed."""

from __future__ import annotations

import json
import os
import subprocess
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from tests.bench.measure import report, timed
from tests.bench.place import installed, watched_repository

from harbour import Harbour
from myriant.cli.database import free_port
from myriant.cli.up import Installation
from myriant.demo.people import YUKI
from myriant.demo.scenario import commit, git
from myriant.flow.admin.secrets import set_secret
from myriant.flow.admin.ways import WayWish, set_way
from myriant.flow.site import Site
from myriant.flow.views.plan.replay import replay_of
from myriant.flow.views.run.verdicts import word_of_commit
from myriant.flow.who import Person
from myriant.store.projects import project_named
from myriant.store.records import Measures
from myriant.store.tables import Attempt, Cell, Delivery, Run

PLAN = """version = 1
[jobs.unit]
runtime = ["lua"]
vary = { lua = ["5.4"] }
[[jobs.unit.steps]]
command = "mkdir -p out; cp report.xml out/; test ! -e bad"
collect = { tests = ["out/*.xml"] }
"""
CASES = "".join(f"<testcase name='lock {n}'/>" for n in range(200))
BY = Person(0, "bench", "maintainer")
RULES = '[[gate.rules]]\nname = "few"\nmeasure = "tests.failed"\nat-most = 2\n[[gate.rules]]\nname = "quick"\nmeasure = "seconds.total"\nat-most = 900\n'


def measure(samples: int = 20, at_once: int = 100) -> None:
    folder = Path(os.environ.get("TMPDIR", "/tmp")) / f"myriant-bench-host-{os.getpid()}"
    host = Harbour(folder, free_port())
    host.begin()
    os.environ["MYRIANT_TELL_TO"] = f"127.0.0.1:{host.port}"
    try:
        with installed() as installation:
            site = installation.site
            assert site is not None
            tree = watched_repository(installation, "bench", PLAN)
            (tree / "report.xml").write_text(f"<testsuite name='s'>{CASES}</testsuite>")
            _tell(site, host)
            _one_by_one(site, tree, samples)
            _all_at_once(installation, site, tree, host, at_once)
            _replay(site)
    finally:
        host.end()


def _tell(site: Site, host: Harbour) -> None:
    host.did("POST", "/repositories", {"name": "bench"})
    set_secret(site, "bench", "HOST", host.token, BY)
    body = json.dumps({"commit": "{commit}", "context": "myriant", "state": "{state}", "sentence": "{sentence}"})
    headers = {"Authorization": "Bearer {secret:HOST}"}
    wish = WayWish(always=True, url=f"{host.address}/api/bench/outcomes", headers=headers, body=body)
    set_way(site, "bench", "host", wish, BY)


def _one_by_one(site: Site, tree: Path, samples: int) -> None:
    at_host, noted, judged = [], [], []
    for number in range(samples + 1):
        (tree / "number").write_text(str(number))
        commit(tree, YUKI, f"Change {number}")
        git(tree, "push", "--quiet", "origin", "HEAD:main")
        head = git(tree, "rev-parse", "HEAD").strip()
        ended, concluded, note, sent = _times(site, head)
        if number:  # the first warms up
            at_host.append((sent - ended).total_seconds())
            noted.append((note - ended).total_seconds())
            judged.append((concluded - ended).total_seconds())
    report("last cell's end to verdict", judged, "s")
    report("last cell's end to outcome at the host", at_host, "s")
    report("last cell's end to note in git", noted, "s")


def _times(site: Site, head: str) -> tuple[datetime, datetime, datetime, datetime]:
    """When the last cell ended, the run was judged, its note written and its outcome taken at the host."""
    while True:
        with site.store.view() as session:
            row = session.execute(
                select(func.max(Attempt.ended_at), Run.ended_at, Run.noted_at, Run.number, Run.project_id)
                .join(Cell, Cell.run_id == Run.id)
                .join(Attempt, Attempt.id == Cell.attempt_id)
                .where(Run.commit == head)
                .group_by(Run.id)
            ).first()
            if row is not None and all(row[:3]):
                told = select(Delivery).where(Delivery.project_id == row[4], Delivery.run == row[3])
                sent = [d for d in session.scalars(told) if d.told.state in ("clear", "held") and d.sent_at]
                if sent and sent[0].sent_at is not None:
                    return row[0], row[1], row[2], sent[0].sent_at
        time.sleep(0.02)


def _all_at_once(installation: Installation, site: Site, tree: Path, host: Harbour, many: int) -> None:
    """So many branches pushed at once, every third bad; all places are read when they are told."""
    heads: dict[str, str] = {}
    for number in range(many):
        bad = number % 3 == 0
        (tree / "number").write_text(f"branch {number}")
        (tree / "bad").unlink(missing_ok=True)
        failing = "<testcase name='lock 0'><failure message='shut'/></testcase>" if bad else ""
        (tree / "report.xml").write_text(
            f"<testsuite name='s'>{failing}{CASES.replace(CASES[:25], '') if bad else CASES}</testsuite>"
        )
        if bad:
            (tree / "bad").write_text("")
        commit(tree, YUKI, f"Branch {number}")
        heads[git(tree, "rev-parse", "HEAD").strip()] = "held" if bad else "clear"
        git(tree, "branch", f"b{number}")
        git(tree, "reset", "--quiet", "--hard", "HEAD~1")
    begun = time.perf_counter()
    git(tree, "push", "--quiet", "origin", *[f"b{n}:b{n}" for n in range(many)])
    origin = installation.place.data / "bench.git"
    wrong: dict[str, Any] = dict(heads)
    while wrong and time.perf_counter() - begun < 240:
        time.sleep(1)
        wrong = {h: said for h in wrong if (said := _places(site, origin, host, h)) != [heads[h]] * 3}
    report(
        "endings at once that agree everywhere",
        [float(many - len(wrong))],
        f"of {many}",
        wrong=list(wrong.values())[:3],
    )
    report("until all of them were told", [time.perf_counter() - begun], "s")


def _places(site: Site, origin: Path, host: Harbour, head: str) -> list[str]:
    note = subprocess.run(
        ["git", "-c", "safe.directory=*", "-C", str(origin), "notes", "--ref=myriant", "show", head],
        capture_output=True,
        text=True,
    ).stdout
    outcomes = host.did("GET", f"/bench/commits/{head}")["outcomes"]
    word = word_of_commit(site, head, "bench")
    return [
        note.split("\n")[0].removeprefix("verdict: ").partition(" ")[0],
        outcomes[0]["state"] if outcomes else "",
        str(word[0].verdict) if word else "",
    ]


def _replay(site: Site, runs: int = 1000) -> None:
    """A draft's gate over so many runs."""
    with site.store.transaction() as session:
        project = project_named(session, "bench")
        assert project is not None
        first = project.next_number
        for n in range(runs):
            jobs = {
                "unit": {
                    "tests.total": 200,
                    "tests.passed": 200 - n % 4,
                    "tests.failed": n % 4,
                    "tests.errored": 0,
                    "tests.new": n % 4,
                    "tests.known": 0,
                    "tests.vanished": 0,
                    "tests.newly-skipped": 0,
                }
            }
            session.add(
                Run(
                    project_id=project.id,
                    number=first + n,
                    event="push",
                    context="push main",
                    branch="main",
                    commit=f"{n:040x}",
                    state="passed",
                    verdict="held" if n % 4 else "clear",
                    depth=10_000 + n,
                    measures=Measures(jobs=jobs, seconds=60.0 + n % 50),
                    ended_at=datetime.now(UTC) - timedelta(minutes=n),
                )
            )
        project.next_number = first + runs
    took = [timed(lambda: replay_of(site, "bench", PLAN + RULES, None, runs)) for _ in range(6)]
    report(f"a gate replayed over {runs} runs", took[1:], "s")
