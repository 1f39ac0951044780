"""Claims of 1,000 simulated runners on 10,000 waiting cells, against bare FOR UPDATE SKIP LOCKED on the same rows."""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from sqlalchemy import text
from tests.bench.measure import report
from tests.bench.place import installed

from myriant.demo.scenario import git
from myriant.flow.admin.projects import add_project
from myriant.flow.dispatch.claims import claim as _claim
from myriant.flow.dispatch.fleet import enrol
from myriant.flow.site import Site
from myriant.store.plans import keep_plan_text

PLAN = """version = 1
[jobs.many]
vary = { tide = [%s], gauge = [%s] }
runtime = ["tide"]
[[jobs.many.steps]]
command = "true"
collect = { tests = ["out/a.xml"] }
"""
AT_ONCE = 8  # connections that claim side by side: as many as a small server has threads busy


def measure(runners: int = 1000, cells: int = 10_000) -> None:
    with installed(slots=1) as installation:
        site = installation.site
        assert site is not None
        installation.parts.stop()  # nothing but the claims shall touch the cells
        _fill(site, installation.place.data, cells)
        tenth = _round("a tenth: 1,000 cells, 100 runners", site, runners // 10, cells // 10, cells)
        whole = _round(f"{cells:,} cells, {runners:,} runners", site, runners, cells, cells)
        report("claims: time for one claim, whole against a tenth", [whole / tenth], "ratio")


def _fill(site: Site, data: Path, cells: int) -> None:
    """Waiting cells of 50 runs in one project, copied in the database."""
    origin, tree = data / "many.git", data / "many"
    git(Path("/"), "init", "--quiet", "--bare", "--initial-branch=main", str(origin))
    git(Path("/"), "clone", "--quiet", str(origin), str(tree))
    add_project(site, str(origin), "many")
    numbers = lambda n: ", ".join(f'"{i}"' for i in range(n))  # noqa: E731
    plan = PLAN % (numbers(10), numbers(cells // 500))
    with site.store.transaction() as session:
        project = session.execute(text("SELECT id FROM project")).scalar_one()
        digest = keep_plan_text(session, plan.encode())
        session.execute(
            text(
                "INSERT INTO run (project_id, number, event, context, branch, commit_id, state, verdict, plan_digest) "
                "SELECT :project, i, 'push', 'push main', 'main', md5(i::text), 'running', 'undecided', :digest "
                "FROM generate_series(1, 50) i"
            ),
            {"project": project, "digest": digest},
        )
        session.execute(
            text(
                "INSERT INTO cell (run_id, job, job_title, position, key, dimension_values, wants, state, rank) "
                "SELECT run.id, 'many', 'many', i, 'tide=' || i % 10 || ',gauge=' || i / 10, '{}', "
                "ARRAY['tide ' || i % 10], 'waiting', run.number * 1000 + i "
                "FROM run, generate_series(0, :each - 1) i"
            ),
            {"each": cells // 50},
        )


def _round(name: str, site: Site, runners: int, wanted: int, cells: int) -> float:
    """Let the runners take `wanted` cells, ours and bare in turns; the median seconds of our claims."""
    offers = [{"family": "tide", "version": f"{i}.0", "path": "/x"} for i in range(10)]
    with site.store.transaction() as session:
        session.execute(text("DELETE FROM attempt"))
        session.execute(text("DELETE FROM runner"))
        session.execute(
            text("UPDATE cell SET state = 'waiting', ready = (id % :cells) < :wanted"),
            {"cells": cells, "wanted": wanted},
        )
    ids = [enrol(site, f"sim-{wanted}-{i}", 16, offers, "none", "1", f"boot{i}") for i in range(runners)]
    taken: list[int] = []
    times: list[float] = []
    lock = threading.Lock()

    def claim(i: int) -> bool:
        begun = time.perf_counter()
        holding = range(1 << 30)
        leases = _claim(site, ids[i % runners], f"boot{i % runners}", 1, holding)
        took = time.perf_counter() - begun
        with lock:
            times.append(took)
            taken.extend(lease.attempt_id for lease in leases)
        return bool(leases)

    with site.store.transaction() as session:
        session.execute(text("ANALYZE cell"))
    begun = time.perf_counter()
    with ThreadPoolExecutor(AT_ONCE) as pool:
        list(pool.map(claim, range(wanted)))
    ours = len(taken) / (time.perf_counter() - begun)
    with site.store.transaction() as session:
        doubled = session.execute(
            text("SELECT count(*) FROM (SELECT cell_id FROM attempt GROUP BY cell_id HAVING count(*) > 1) d")
        ).scalar_one()
        session.execute(text("DELETE FROM attempt"))
        session.execute(text("UPDATE cell SET state = 'waiting', attempt_id = NULL WHERE state = 'running'"))
        session.execute(text("UPDATE cell SET state = 'running' WHERE false"))
    bare = _bare(site, wanted)
    times.sort()
    report(
        f"claims: {name}",
        [ours],
        "claims/s",
        bare=round(bare),
        ratio=round(ours / bare, 3),
        median_ms=round(1000 * times[len(times) // 2], 2),
        p99_ms=round(1000 * times[int(len(times) * 0.99)], 2),
        taken=len(taken),
        given_twice=doubled,
    )
    return times[len(times) // 2]


def _bare(site: Site, wanted: int) -> float:
    """Claims a second of the least that a queue on PostgreSQL does: one row locked, marked, committed."""

    def claim(_: int) -> None:
        with site.store.transaction() as session:
            session.execute(
                text(
                    "UPDATE cell SET state = 'running' WHERE id = (SELECT id FROM cell WHERE state = 'waiting' AND ready "
                    "ORDER BY rank, id LIMIT 1 FOR UPDATE SKIP LOCKED)"
                )
            )

    begun = time.perf_counter()
    with ThreadPoolExecutor(AT_ONCE) as pool:
        list(pool.map(claim, range(wanted)))
    return wanted / (time.perf_counter() - begun)
