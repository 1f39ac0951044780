"""Plans: sizes and times of samples, time to check a large plan, and mutated plans that raise nothing."""

from __future__ import annotations

import itertools
import sys
import time
import tomllib
from pathlib import Path

from tests.bench.measure import against, report, timed

sys.path.insert(0, str(Path(__file__).parents[1] / "core/plan"))

# levels, strength, best known, best greedy: Cohen et al. 1997; Lei and Tai 1998; Colbourn, Cohen and Turban 2004;
# Calvagna and Gargantini 2009; for strength 3 Colbourn's tables and Forbes et al. 2008
SAMPLES: list[tuple[str, list[int], int, int, int]] = [
    ("3^4", [3] * 4, 2, 9, 9),
    ("3^13", [3] * 13, 2, 15, 15),
    ("4^15 3^17 2^29", [4] * 15 + [3] * 17 + [2] * 29, 2, 29, 32),
    ("4^1 3^39 2^35", [4] + [3] * 39 + [2] * 35, 2, 21, 23),
    ("2^100", [2] * 100, 2, 10, 10),
    ("10^20", [10] * 20, 2, 155, 180),
    ("5^10 by threes", [5] * 10, 3, 185, 276),
    ("3^10 by threes", [3] * 10, 3, 45, 60),
]


def measure() -> None:
    """Sizes beside published ones, checked by brute force; then checking and mutations."""
    from myriant.core.matrix.sample import sample

    for name, levels, strength, known, greedy in SAMPLES:
        rows = sample(levels, strength)
        for dims in itertools.combinations(range(len(levels)), strength):
            expected = 1
            for d in dims:
                expected *= levels[d]
            assert len({tuple(r) for r in rows[:, dims].tolist()}) == expected
        seconds = [timed(lambda levels=levels, strength=strength: sample(levels, strength)) for _ in range(5)]
        report(
            f"sample {name}",
            seconds,
            "s",
            size=len(rows),
            best_known=known,
            best_greedy=greedy,
            over_greedy=round(len(rows) / greedy - 1, 3),
        )
    _checking()
    _mutations()


def large_plan() -> bytes:
    jobs = [
        f"""
[jobs.job-{j}]
title    = "Job {j}"
vary     = {{ python = ["3.8", "3.9", "3.10", "3.11", "3.12"], rounding = ["a", "b", "c", "d", "e"], size = ["s", "m", "l", "x"] }}
runtime  = ["python"]
drop     = [{{ python = "3.8", rounding = "b" }}]
add      = [{{ python = "3.13", rounding = "a", size = "s" }}]
advisory = [{{ python = ">= 3.12" }}]
timeout  = "10 min"
env      = {{ TZ = "UTC" }}
after    = [{f'"job-{j - 1}"' if j else ""}]

[[jobs.job-{j}.steps]]
name    = "prepare"
command = "python -m venv .venv # {j}"

[[jobs.job-{j}.steps]]
name    = "build"
folder  = "server"
command = "make $MYRIANT_CELL_ROUNDING {j}"

[[jobs.job-{j}.steps]]
name    = "test"
command = "pytest $MYRIANT_CELL_SIZE --junitxml=out/unit-{j}.xml"
collect = {{ tests = ["out/unit-{j}.xml"] }}
"""
        for j in range(21)
    ]
    return ("version = 1\n" + "".join(jobs)).encode()


def _checking() -> None:
    from myriant.core.matrix.expand import expand
    from myriant.core.plan.read import read_plan

    text = large_plan()
    plan = read_plan(text).plan
    assert plan is not None
    against(
        "check a large plan",
        lambda: read_plan(text),
        lambda: tomllib.loads(text.decode()),
        samples=15,
        lines=text.count(b"\n"),
        cells=sum(len(expand(job)) for job in plan.jobs),
    )


def _mutations(count: int = 10_000) -> None:
    from hypothesis import HealthCheck, given, settings
    from test_read import claims_of_a_reading, mutated

    tried = 0

    @given(mutated())
    @settings(max_examples=count, deadline=None, database=None, suppress_health_check=list(HealthCheck))
    def every(source: bytes) -> None:
        nonlocal tried
        tried += 1
        claims_of_a_reading(source)

    begun = time.perf_counter()
    every()
    report("mutated plans", [time.perf_counter() - begun], "s", plans=tried, other_exceptions=0)
