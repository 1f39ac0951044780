"""Bytes and times of the packed store: 300 runs × 24 cells, by segment size."""

from __future__ import annotations

import time

import numpy as np
from sqlalchemy import text
from tests.bench.measure import report, timed
from tests.bench.place import installed

import myriant.core.results.packed as packed
import myriant.store.results as results
from myriant.core.results.model import Outcome
from myriant.store.engine import Store
from myriant.store.results import NotPassed, all_not_passed, history_of_test, keep_results

RUNS, CELLS, TESTS = 300, 24, 5_000
SIZES = (1024, 512, 256, 128)


def measure(sizes: tuple[int, ...] = (packed.SEGMENT,)) -> None:
    """The size in force; `python -m tests.bench store-sizes` compares several."""
    for size in sizes:
        packed.SEGMENT = results.SEGMENT = size
        with installed() as installation:
            assert installation.site is not None
            _measure(installation.site.store, size)


def _measure(store: Store, size: int) -> None:
    rng = np.random.default_rng(3)
    usual = rng.lognormal(-5, 1.2, TESTS)
    with store.transaction() as session:
        session.execute(text("INSERT INTO project (name, address, next_number) VALUES ('large', '/nowhere', 1000)"))
        session.execute(
            text(
                "INSERT INTO run (project_id, number, event, purpose, branch, commit_id, state, verdict, depth) "
                "SELECT 1, n, 'push', 'push', 'main', lpad(n::text, 40, '0'), 'failed', 'held', n FROM generate_series(1, :runs) n"
            ),
            {"runs": RUNS},
        )
        session.execute(
            text(
                "INSERT INTO cell (run_id, job, job_title, position, key, dimension_values, wants, state, attempt_id) "
                "SELECT r, 'unit', 'unit', c, 'cell=' || c, '{}', '{}', 'failed', (r - 1) * :cells + c "
                "FROM generate_series(1, :runs) r, generate_series(1, :cells) c ORDER BY r, c"
            ),
            {"runs": RUNS, "cells": CELLS},
        )
        session.execute(
            text(
                "INSERT INTO attempt (cell_id, number, state, runner, lease_digest, lease_until) "
                "SELECT id, 1, 'failed', '', '', now() FROM cell ORDER BY id"
            )
        )
        session.execute(
            text(
                "INSERT INTO test (project_id, number, key, job, kind, suite, class, name) "
                "SELECT 1, n, decode(md5(n::text), 'hex'), 'unit', 'unit', 's', 'c', 'test ' || n FROM generate_series(0, :tests - 1) n"
            ),
            {"tests": TESTS},
        )
    numbers = np.arange(TESTS)
    begun = time.perf_counter()
    for run in range(RUNS):
        with store.transaction() as session:
            for cell in range(CELLS):
                outcomes = np.where(rng.random(TESTS) < 0.002, Outcome.FAILED, Outcome.PASSED).astype(np.uint8)
                seconds = np.round(usual * rng.lognormal(0, 0.15, TESTS), 3)
                failed = [
                    NotPassed(int(n), Outcome.FAILED, "expected 1, got 2", "trace", 0.1)
                    for n in np.flatnonzero(outcomes == Outcome.FAILED)
                ]
                keep_results(session, run * CELLS + cell + 1, numbers, outcomes, seconds, failed)
        if run == 49:
            kept = 50 * CELLS * TESTS
            report("bytes a result after 50 runs", [_size(store, "segment") / kept], "bytes", segment=size, limit=4)
    loaded = time.perf_counter() - begun
    total = RUNS * CELLS * TESTS
    report("bytes a result", [_size(store, "segment") / total], "bytes", segment=size, results=total)
    report("storing, a million results", [loaded / total * 1e6], "s", segment=size)
    with store.transaction() as session:
        session.execute(text("ANALYZE"))

    def not_passed() -> None:
        with store.transaction() as session:
            assert len(all_not_passed(session, 1, list(range(100 * CELLS + 1, 101 * CELLS + 1)))) > 100

    def history() -> None:
        with store.transaction() as session:
            assert len(history_of_test(session, 1, 1234, RUNS)) == RUNS * CELLS

    report("all that did not pass of one run", [timed(not_passed) for _ in range(9)], "s", segment=size, limit=0.05)
    report("one test over 300 runs × 24 cells", [timed(history) for _ in range(9)], "s", segment=size, limit=0.1)


def _size(store: Store, table: str) -> int:
    with store.transaction() as session:
        found = session.scalar(text("SELECT pg_total_relation_size(CAST(:table AS regclass))"), {"table": table})
        assert found is not None
        return int(found)
