"""What the screens ask of 40,000 attempts, each answer with the indexes that are followed, and without them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial

import numpy as np
from sqlalchemy import text
from tests.asking import statements
from tests.bench.measure import report, timed
from tests.bench.place import installed

from myriant.core.results.model import Outcome
from myriant.core.results.packed import SEGMENT, pack
from myriant.flow.site import Site
from myriant.flow.views.desk.page import desk_view
from myriant.flow.views.desk.projects import project_lines
from myriant.flow.views.evidence.attempt import attempt_view
from myriant.flow.views.findings.answer import findings_of
from myriant.flow.views.run.page import run_view
from myriant.flow.views.run.verdicts import word_of_commit
from myriant.flow.views.runners.page import runners
from myriant.flow.views.strip import strip_of
from myriant.store.results import history_of_test, outcomes_of
from myriant.store.tables import Base

PROJECTS, RUNS, CELLS, SEGMENTS = 20, 500, 80, 35
FAILING = 5  # a test that fails in every cell
TABLES = (
    "attempt",
    "segment",
    "failure",
    "coverage_total",
    "coverage_file",
    "control",
    "cache_entry",
    "run",
    "token",
    "sending",
)


def measure() -> None:
    with installed(slots=1) as installation:
        site = installation.site
        assert site is not None
        installation.parts.stop()  # nothing but the questions shall be at work
        _fill(site)
        with _without_indexes(site):
            before = {name: [timed(ask) for _ in range(5)] for name, ask in _questions(site)}
        for name, ask in _questions(site):
            asked = len(statements(site, ask))
            now = [timed(ask) for _ in range(9)]
            was = report(f"queries, without the indexes: {name}", before[name], "s")
            report(f"queries: {name}", now, "s", statements=asked, times_faster=round(was / sorted(now)[4], 1))


def _questions(site: Site) -> list[tuple[str, Callable[[], object]]]:
    """Everything that is asked when somebody looks, and what is done when an attempt goes."""
    newest = RUNS * CELLS

    def outcomes() -> None:
        with site.store.transaction() as session:
            assert len(outcomes_of(session, [newest])[newest]) == SEGMENTS * SEGMENT

    def history() -> None:
        with site.store.transaction() as session:
            history_of_test(session, 1, 77, RUNS)

    def removal() -> None:
        with site.store.transaction() as session:
            session.execute(text("DELETE FROM attempt WHERE id = :id"), {"id": newest})
            session.rollback()

    return [
        ("the outcomes of one attempt", outcomes),
        ("one attempt removed", removal),
        ("one test over 500 runs", history),
        ("the word of a commit", partial(word_of_commit, site, f"{RUNS:040d}", None)),
        ("a run's page", partial(run_view, site, "many-1", RUNS)),
        ("its findings", partial(findings_of, site, "many-1", RUNS, RUNS - 1)),
        ("an attempt", partial(attempt_view, site, newest)),
        ("the strip of 100 runs", partial(strip_of, site, "many-1", None, None, 100)),
        ("the desk of 20 projects", partial(desk_view, site)),
        ("the list of 20 projects", partial(project_lines, site)),
        ("the runners", partial(runners, site)),
    ]


@contextmanager
def _without_indexes(site: Site) -> Iterator[None]:
    """Drop what is no key of the tables that the questions go through, and build it again."""
    indexes = [index for table in TABLES for index in Base.metadata.tables[table].indexes if not index.unique]
    with site.store.transaction() as session:
        for index in indexes:
            index.drop(session.connection(), checkfirst=True)
    _analyze(site)
    yield
    with site.store.transaction() as session:
        for index in indexes:
            index.create(session.connection())
    _analyze(site)


def _analyze(site: Site) -> None:
    with site.store.engine.connect().execution_options(isolation_level="AUTOCOMMIT") as connection:
        connection.execute(text("ANALYZE"))


def _fill(site: Site) -> None:
    """Twenty projects; the first with 500 runs of 80 cells, 35 segments of results each, a failure in every cell."""
    wanted = {"projects": PROJECTS, "runs": RUNS, "cells": CELLS, "segments": SEGMENTS}
    seconds = np.random.default_rng(2).lognormal(-5, 1.2, SEGMENT)
    outcomes = np.full(SEGMENT, Outcome.PASSED, np.uint8)
    [passing] = pack(np.arange(SEGMENT), outcomes, seconds)
    outcomes[FAILING] = Outcome.FAILED
    [failing] = pack(np.arange(SEGMENT), outcomes, seconds)
    packed = {"passing": passing.outcomes, "failing": failing.outcomes, "durations": passing.durations, "test": FAILING}
    statements = (
        "INSERT INTO project (name, address, next_number, next_test) SELECT 'many-' || n, '/nowhere', 100000, 10000 "
        "FROM generate_series(1, :projects) n",
        "INSERT INTO run (project_id, number, event, context, branch, commit_id, state, verdict, depth, created_at, started_at, ended_at) "
        "SELECT p, n, 'push', 'push main', 'main', lpad(n::text, 40, '0'), 'failed', 'held', n, now(), now(), now() "
        "FROM generate_series(1, :projects) p, generate_series(1, CASE WHEN p = 1 THEN :runs ELSE 50 END) n ORDER BY p, n",
        "INSERT INTO cell (run_id, job, job_title, position, key, dimension_values, wants, state, mark, attempt_id) "
        "SELECT r, 'unit', 'unit', c, 'n=' || c, jsonb_build_object('n', c::text), '{}', 'failed', 'new', (r - 1) * :cells + c "
        "FROM generate_series(1, :runs) r, generate_series(1, :cells) c ORDER BY r, c",
        "INSERT INTO runner (name, slots, runtimes, offers, isolation, version, boot) VALUES ('one', 4, '[]', '{}', '', '1', '')",
        "INSERT INTO attempt (cell_id, number, state, runner, runner_id, lease_digest, lease_until, created_at, started_at, ended_at) "
        "SELECT id, 1, 'failed', 'one', 1, '', now(), now() - make_interval(mins => 40000 - id), now(), now() FROM cell ORDER BY id",
        "INSERT INTO segment (attempt_id, number, outcomes, durations) "
        "SELECT a.id, n, CASE WHEN n = 0 THEN CAST(:failing AS bytea) ELSE CAST(:passing AS bytea) END, CAST(:durations AS bytea) "
        "FROM attempt a, generate_series(0, :segments - 1) n ORDER BY n, a.id",
        "INSERT INTO failure (attempt_id, test, outcome, message, detail, signature) "
        "SELECT id, :test, 2, 'the tide did not turn', '', 'tide' FROM attempt",
        "INSERT INTO test (project_id, number, key, job, kind, suite, class, name) SELECT 1, n, decode(md5(n::text), 'hex'), "
        "'unit', 'unit', 's', 'c' || n / 50, 'test ' || n FROM generate_series(0, :segments * 256 - 1) n",
    )
    with site.store.transaction() as session:
        for statement in statements:
            session.execute(text(statement), {**wanted, **packed})
    _analyze(site)
