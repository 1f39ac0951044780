"""Bytes and times of the packed store, 300 runs × 24 cells × 20,000 tests, beside a plain table of one row a result."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select, text
from tests.bench.measure import report, timed
from tests.bench.place import installed

import myriant.core.results.packed as packed
import myriant.store.results as results
from myriant.core.results.model import Outcome
from myriant.flow.diagnose.flakes import flakes_of
from myriant.flow.site import Site
from myriant.flow.views.findings.answer import findings_of
from myriant.flow.views.tests.grid import Wanted, grid_of_tests
from myriant.flow.views.tests.page import test_view
from myriant.store.engine import Store
from myriant.store.results import NotPassed, all_not_passed, history_of_test, keep_results, outcomes_of
from myriant.store.tables import Test

RUNS, CELLS, TESTS = 300, 24, 20_000
LARGE = 100_000  # tests of the one large run
PLAIN_RUNS = 3  # that the plain table is measured with
SIZES = (1024, 512, 256, 128)


def measure(sizes: tuple[int, ...] = (packed.SEGMENT,)) -> None:
    """The size in force; `python -m tests.bench store-sizes` compares several."""
    for size in sizes:
        packed.SEGMENT = results.SEGMENT = size
        with installed() as installation:
            assert installation.site is not None
            _measure(installation.site.store, size)
            _screens(installation.site)


def _measure(store: Store, size: int) -> None:
    rng = np.random.default_rng(3)
    usual = rng.lognormal(-5, 1.2, TESTS)
    with store.transaction() as session:
        session.execute(text("INSERT INTO project (name, address, next_number) VALUES ('large', '/nowhere', 1000)"))
        session.execute(
            text(
                "INSERT INTO run (project_id, number, event, context, branch, commit_id, state, verdict, depth) "
                "SELECT 1, n, 'push', 'push main', 'main', lpad(n::text, 40, '0'), 'failed', 'held', n FROM generate_series(1, :runs) n"
            ),
            {"runs": RUNS + 1},
        )
        session.execute(
            text(
                "INSERT INTO cell (run_id, job, job_title, position, key, dimension_values, wants, state, attempt_id) "
                "SELECT r, 'unit', 'unit', c, 'cell=' || c, '{}', '{}', 'failed', (r - 1) * :cells + c "
                "FROM generate_series(1, :runs) r, generate_series(1, :cells) c ORDER BY r, c"
            ),
            {"runs": RUNS + 1, "cells": CELLS},
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
                "SELECT 1, n, decode(md5(n::text), 'hex'), 'unit', 'unit', 'suite ' || n / 1000, 'gates.module' || n / 50, "
                "'test_gate_opens_at_level_' || n FROM generate_series(0, :tests - 1) n"
            ),
            {"tests": LARGE},
        )
        session.execute(text("CREATE TABLE plain (attempt int, test int, outcome smallint, seconds real)"))
        session.execute(text("CREATE UNIQUE INDEX plain_by_attempt ON plain (attempt, test)"))
        session.execute(text("CREATE INDEX plain_by_test ON plain (test, attempt)"))
        session.execute(text("CREATE INDEX plain_not_passed ON plain (attempt) WHERE outcome <> 1"))
    loaded, ratios, plain = 0.0, [], 0.0
    for run in range(RUNS):
        made = [_made(rng, usual, TESTS) for _ in range(CELLS)]
        first = run * CELLS + 1
        if run < PLAIN_RUNS:
            plain = timed(partial(_keep_plain, store, first, made))
        took = timed(partial(_keep, store, first, made))
        loaded += took
        if run < PLAIN_RUNS:
            ratios.append(took / plain)
    total = RUNS * CELLS * TESTS
    rows = PLAIN_RUNS * CELLS * TESTS
    packed_bytes = (_size(store, "segment") + _size(store, "failure")) / total
    report("bytes a result", [_size(store, "segment") / total], "bytes", segment=size, results=total)
    report("bytes a result with what failed in full", [packed_bytes], "bytes", segment=size)
    report("plain table: bytes a result", [_size(store, "plain") / rows], "bytes", results=rows)
    report("plain table ÷ packed, bytes", [_size(store, "plain") / rows / (_size(store, "segment") / total)], "ratio")
    report("storing, a million results", [loaded / total * 1e6], "s", segment=size)
    report("storing: packed ÷ plain table", ratios, "ratio")
    _keep(store, RUNS * CELLS + 1, [_made(rng, rng.lognormal(-5, 1.2, LARGE), LARGE) for _ in range(CELLS)])
    with store.transaction() as session:
        session.execute(text("ANALYZE"))
    large = list(range(RUNS * CELLS + 1, (RUNS + 1) * CELLS + 1))

    def not_passed() -> None:
        with store.transaction() as session:
            assert len(all_not_passed(session, 1, large)) > 100

    def history() -> None:
        with store.transaction() as session:
            assert len(history_of_test(session, 1, 1234, RUNS + 1)) == (RUNS + 1) * CELLS

    def grid() -> None:
        with store.transaction() as session:
            assert len(outcomes_of(session, large)) == CELLS

    def named() -> None:
        with store.transaction() as session:
            query = select(Test.number).where(Test.project_id == 1, Test.words.contains("level_4242"))
            assert len(session.scalars(query).all()) > 5

    def plain_history() -> None:
        with store.transaction() as session:
            session.execute(text("SELECT attempt, outcome, seconds FROM plain WHERE test = 1234")).all()

    report(
        "all that did not pass of a run of 2.4 million results", [timed(not_passed) for _ in range(9)], "s", limit=0.1
    )
    report("one test over 300 runs × 24 cells", [timed(history) for _ in range(9)], "s", segment=size, limit=0.1)
    report("every outcome of a run of 2.4 million results", [timed(grid) for _ in range(9)], "s")
    report("tests by name among 100,000", [timed(named) for _ in range(9)], "s", limit=0.1)
    report("plain table: one test over 3 runs × 24 cells", [timed(plain_history) for _ in range(9)], "s")


def _screens(site: Site) -> None:
    """What the screens ask, whole answers, of the run of 2.4 million results and over all runs."""
    asked: list[tuple[str, Callable[[], object]]] = [
        ("findings", partial(findings_of, site, "large", RUNS + 1, RUNS)),
        ("tests that did not pass", partial(grid_of_tests, site, "large", RUNS + 1, RUNS, Wanted(limit=200))),
        ("all tests", partial(grid_of_tests, site, "large", RUNS + 1, RUNS, Wanted("all", limit=200))),
        ("tests by name", partial(grid_of_tests, site, "large", RUNS + 1, RUNS, Wanted("all", "level_42", limit=200))),
        ("a test's page", partial(test_view, site, "large", 1234)),
        ("flaky tests", partial(flakes_of, site, "large")),
    ]
    for name, ask in asked:
        report(f"screen: {name}", [timed(ask) for _ in range(7)], "s")


Made = tuple[NDArray[np.uint8], NDArray[np.float64]]


def _made(rng: np.random.Generator, usual: NDArray[np.float64], tests: int) -> Made:
    """Outcomes and seconds of a cell, 2 in 1,000 failed."""
    outcomes = np.where(rng.random(tests) < 0.002, Outcome.FAILED, Outcome.PASSED).astype(np.uint8)
    return outcomes, np.round(usual * rng.lognormal(0, 0.15, tests), 3)


def _keep(store: Store, first: int, made: list[Made]) -> None:
    with store.transaction() as session:
        for attempt, (outcomes, seconds) in enumerate(made, first):
            failed = [
                NotPassed(int(n), Outcome.FAILED, "expected 1, got 2", "trace", 0.1)
                for n in np.flatnonzero(outcomes == Outcome.FAILED)
            ]
            keep_results(session, attempt, np.arange(len(outcomes)), outcomes, seconds, failed)


def _keep_plain(store: Store, first: int, made: list[Made]) -> None:
    """The same as rows, by COPY."""
    with store.transaction() as session:
        connection = session.connection().connection.driver_connection
        with connection.cursor() as cursor, cursor.copy("COPY plain FROM STDIN (FORMAT BINARY)") as copy:
            copy.set_types(["int4", "int4", "int2", "float4"])
            for attempt, (outcomes, seconds) in enumerate(made, first):
                for test, (outcome, took) in enumerate(zip(outcomes.tolist(), seconds.tolist(), strict=True)):
                    copy.write_row((attempt, test, outcome, took))


def _size(store: Store, table: str) -> int:
    with store.transaction() as session:
        found = session.scalar(text("SELECT pg_total_relation_size(CAST(:table AS regclass))"), {"table": table})
        assert found is not None
        return int(found)
