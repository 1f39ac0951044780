"""Where tests broke on a branch: each break once, at the run that brought it, and chance left out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from sqlalchemy.orm import Session

from myriant.core.trends.breaks import CellEnded, begun
from myriant.flow.diagnose.flakes import sure_of_chance
from myriant.store.chance import MOST_FAILURES, failed_in
from myriant.store.tables import Project
from myriant.store.trends import cells_judged

MOST_ASKED = 500  # tests that are asked whether they fail by chance, those that broke most often first

Breaks = dict[tuple[int, str, str], set[int]]


def breaks_in(session: Session, project: Project, runs: Sequence[int]) -> Breaks:
    """By run, job and cell, the tests that began to fail there; `runs` are ids in the order of ancestry.

    A test that fails by chance, as far as its results tell today, breaks nothing.
    """
    place = {run: i for i, run in enumerate(runs)}
    rows = sorted(cells_judged(session, runs), key=lambda r: place[r.run])
    failures = failed_in(session, [r.attempt for r in rows if r.failed and r.attempt is not None])
    cut = sum(map(len, failures.values())) >= MOST_FAILURES  # the oldest are not known: their cells say nothing
    failing = {attempt: frozenset(t for t, flaky in told.items() if not flaky) for attempt, told in failures.items()}
    none: frozenset[int] = frozenset()
    found = begun(
        CellEnded(r.run, r.job, r.key, r.new, failing.get(r.attempt or 0, none))
        for r in rows
        if not (cut and r.failed and r.attempt not in failing)
    )
    often = Counter(t for tests in found.values() for t in tests)
    chance = sure_of_chance(session, project, [t for t, _ in often.most_common(MOST_ASKED)])
    left = {name: tests - chance for name, tests in found.items()}
    return {name: tests for name, tests in left.items() if tests}
