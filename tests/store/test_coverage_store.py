"""Coverage as it is stored: equal vectors once, shares of folders, nothing left that nobody has."""

from __future__ import annotations

import numpy as np
import sqlalchemy as sa
import sqlalchemy.orm

from myriant.core.coverage.model import FileCoverage
from myriant.store.coverage import (
    coverage_files_of_attempts,
    forget_loose_vectors,
    keep_coverage,
    merged_coverage_of,
    shares_below,
)
from myriant.store.tables import Attempt, Cell, CoverageTotal, CoverageVector
from worlds import World, stored_project

NONE = np.zeros(0, np.int32)


def file(*hits: int) -> FileCoverage:
    lines = np.arange(1, len(hits) + 1, dtype=np.int32)
    return FileCoverage(lines, np.array(hits, np.int32), NONE, NONE, NONE)


def test_equal_vectors_are_kept_once_and_found_by_every_run(world: World) -> None:
    site = world.site
    project, attempts = stored_project(site.store, runs=2, cells=2)
    usual = {"src/a.py": file(1, 0, 2), "src/deep/b.py": file(1, 1), "srcs/c.py": file(0)}
    with site.store.transaction() as session:
        of = select_runs(session, attempts)
        for i, attempt in enumerate(attempts):
            files = {**usual, **({"src/a.py": file(0, 0, 1)} if i == 3 else {})}
            keep_coverage(session, project, of[attempt], "unit", attempt, files)
        for run in sorted(set(of.values())):
            keep_coverage(session, project, run, "", None, usual)
            keep_coverage(session, project, run, "", None, usual)  # judged again

    def vectors() -> int:
        with site.store.view() as session:
            mine = sa.select(sa.func.count()).where(CoverageVector.project_id == project)
            return session.scalar(mine) or 0

    assert vectors() == 4  # of 12 files of attempts and 6 merged ones
    with site.store.view() as session:
        found = coverage_files_of_attempts(session, attempts)
        assert found[attempts[3]]["src/a.py"].hits.tolist() == [0, 0, 1]
        assert found[attempts[0]]["src/a.py"].hits.tolist() == [1, 0, 2]
        first, second = sorted(set(of.values()))
        assert set(merged_coverage_of(session, first, [""])[""]) == set(usual)
        for folder, share in {
            "": (4, 6),
            "src": (4, 5),
            "src/": (4, 5),
            "src/deep": (2, 2),
            "srcs": (0, 1),
            "src/a.py": (2, 3),
        }.items():
            assert shares_below(session, [first, second], folder, "") == {first: share, second: share}, folder
        assert shares_below(session, [first], "nowhere", "") == {} and shares_below(session, [first], "", "odd") == {}
    with site.store.transaction() as session:
        session.execute(sa.delete(CoverageTotal).where(CoverageTotal.attempt_id == attempts[3]))
        forget_loose_vectors(session, 10_000)
    assert vectors() == 3


def select_runs(session: sa.orm.Session, attempts: list[int]) -> dict[int, int]:
    rows = session.execute(sa.select(Attempt.id, Cell.run_id).join(Cell, Cell.id == Attempt.cell_id))
    return {attempt: run for attempt, run in rows if attempt in attempts}
