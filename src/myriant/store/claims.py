"""What a claim asks and says, in as few statements as it takes: they are on the path of every cell."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from psycopg.rows import class_row
from sqlalchemy.orm import Session

from myriant.core.states import CELL_MOVES, RUN_MOVES, State, check_move
from myriant.store.changes import CHANGES
from myriant.store.raw import raw

TAKEN, GIVEN = State.WAITING, State.RUNNING  # what a claim finds, and what it makes of it
for _what, _moves in (("cell", CELL_MOVES), ("run", RUN_MOVES)):
    check_move(f"a {_what} that is claimed", _moves, TAKEN, GIVEN)


@dataclass(frozen=True, slots=True)
class Asking:
    """A runner that asks for work; `leases` are the attempts that it should have."""

    id: int
    name: str
    boot: str
    offers: list[str]
    drained: str
    projects: list[int] | None  # whose cells it is given; None: all
    leases: list[int]


_HEAR_OF = """
    UPDATE runner SET seen_at = now() WHERE id = %s
    RETURNING id, name, boot, offers, drained, projects, ARRAY(
        SELECT attempt.id FROM attempt WHERE attempt.runner_id = runner.id AND attempt.state = 'running'
    ) AS leases
"""


def hear_of(session: Session, runner_id: int) -> Asking | None:
    """Note that a runner was heard of just now; None when it is not enrolled."""
    return raw(session).cursor(row_factory=class_row(Asking)).execute(_HEAR_OF, (runner_id,)).fetchone()


@dataclass(frozen=True, slots=True)
class Takeable:
    """A waiting cell, with what its lease says of its run and project."""

    cell_id: int
    run_id: int
    job: str
    values: dict[str, str]
    wants: list[str]
    at_once: int | None
    attempts: int  # so far
    void_on: int | None  # the runner on which its last attempt went void
    project_id: int
    project: str
    address: str
    number: int
    commit: str
    before: str


_IN_ORDER = "SELECT set_config('enable_sort', 'off', true), set_config('enable_bitmapscan', 'off', true)"
_TAKEABLE = """
    SELECT cell.id AS cell_id, cell.run_id, cell.job, cell.dimension_values AS values, cell.wants, cell.at_once,
        (SELECT coalesce(max(number), 0) FROM attempt WHERE cell_id = cell.id AND number > 0) AS attempts,
        CASE WHEN last.state = 'void' THEN last.runner_id END AS void_on,
        project.id AS project_id, project.name AS project, project.address, run.number,
        coalesce(run.tested, run.commit_id) AS commit, coalesce(run.base, run.before, '') AS before
    FROM cell JOIN run ON run.id = cell.run_id JOIN project ON project.id = run.project_id
    LEFT JOIN attempt AS last ON last.id = cell.attempt_id
    WHERE cell.state = '{taken}' AND cell.ready AND cell.wants <@ %s {scope}
    AND (cell.at_once IS NULL OR cell.at_once > (
        SELECT count(*) FROM cell AS other
        WHERE other.run_id = cell.run_id AND other.job = cell.job AND other.state = 'running'
    ))
    ORDER BY cell.rank, cell.id LIMIT %s FOR UPDATE OF cell SKIP LOCKED
"""


_ALL = _TAKEABLE.format(scope="", taken=TAKEN)
_SOME = _TAKEABLE.format(scope="AND run.project_id = ANY(%s)", taken=TAKEN)


def takeable_cells(
    session: Session, offers: Sequence[str], most: int, projects: Sequence[int] | None = None
) -> list[Takeable]:
    """Cells that a runner with these offers could take, those whose turn it is first, locked for this transaction;
    of some projects only where it is for these.

    They are read in the order of the index: after a burst of new cells the planner knows nothing of it yet, and
    would sort all that waits for each claim (measured: 10 ms instead of 0.1 ms with 10,000 cells).
    """
    cursor = raw(session).cursor(row_factory=class_row(Takeable))
    cursor.connection.execute(_IN_ORDER)
    if projects is None:
        return cursor.execute(_ALL, (list(offers), most)).fetchall()
    return cursor.execute(_SOME, (list(offers), list(projects), most)).fetchall()


_GIVE = f"""
    WITH wanted AS (
        SELECT * FROM unnest(%(cells)s::int[], %(numbers)s::int[], %(digests)s::text[]) AS w (cell, number, digest)
    ), given AS (
        INSERT INTO attempt (cell_id, number, state, runner, runner_id, lease_digest, lease_until)
        SELECT cell, number, '{GIVEN}', %(runner)s, %(runner_id)s, digest, now() + %(lease)s FROM wanted
        RETURNING id, cell_id
    ), marked AS (
        UPDATE cell SET state = '{GIVEN}', mark = '{GIVEN}', why = '', reason = '', attempt_id = given.id
        FROM given WHERE cell.id = given.cell_id RETURNING cell.run_id
    ), started AS (
        UPDATE run SET state = '{GIVEN}', started_at = now()
        WHERE id IN (SELECT run_id FROM marked) AND state = '{TAKEN}'
    ), told AS (
        INSERT INTO change (kind, project, run) SELECT DISTINCT 'cell', project.name, run.number
        FROM marked JOIN run ON run.id = marked.run_id JOIN project ON project.id = run.project_id RETURNING id
    ), heard AS (SELECT count(pg_notify('{CHANGES}', id::text)) AS rung FROM told)
    SELECT given.cell_id, given.id FROM given, heard
"""  # noqa: S608  # the channel's name is ours


def give_cells(
    session: Session, runner: Asking, cells: Sequence[Takeable], digests: Sequence[str], lease: timedelta
) -> dict[int, int]:
    """Make an attempt of each cell, which runs from now on; the attempts by cell. Whoever watches is told."""
    rows = raw(session).execute(
        _GIVE,
        {
            "cells": [c.cell_id for c in cells],
            "numbers": [c.attempts + 1 for c in cells],
            "digests": list(digests),
            "runner": runner.name,
            "runner_id": runner.id,
            "lease": lease,
        },
    )
    return dict(rows.fetchall())
