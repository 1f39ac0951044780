"""A run beside its baseline: which runs it is compared with, and what comes of it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import (
    CellComparison,
    CellName,
    RunOutcomes,
    compare,
    renamed,
    with_earlier,
    without_failures,
)
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.history import moves_of, quarantined_tests, set_aside_at
from myriant.store.results import (
    earlier_attempts,
    failing_outcomes_of,
    outcomes_of,
    trusted_attempts,
)
from myriant.store.runs import judged_runs_of, newest_clear_run
from myriant.store.tables import Project, Run

MOST_SINCE = 50  # commits looked back for what a repair fixed


MOST_COMPARED = 5  # of their runs, the nearest: enough for cells that the very nearest lacks


@dataclass(frozen=True, slots=True)
class Compared:
    """A run beside a baseline."""

    current: RunOutcomes
    baseline: RunOutcomes | None
    cells: Mapping[CellName, CellComparison]
    attempts: Mapping[CellName, int]


def gate_baseline(site: Site, session: Session, run: Run) -> Run | None:
    """The newest first-parent ancestor whose verdict for the same purpose was clear."""
    return newest_clear_run(session, run, ancestors(site, session, run), family(run))


def ancestors(site: Site, session: Session, run: Run) -> list[str]:
    """Commits that a run can be compared with, nearest first: its first parents, or a pull request's target."""
    project = session.get_one(Project, run.project_id)
    try:
        if run.base:
            return site.mirror(project).first_parents(run.base)
        return site.mirror(project).first_parents(run.commit)[1:]
    except GitError:
        return []


def runs_since(session: Session, run: Run, baseline: Run | None, nearest: Sequence[str]) -> Sequence[Run]:
    """Judged runs on those of the `nearest` ancestors that come after the baseline, the nearest first."""
    if baseline is not None and baseline.commit in nearest:
        nearest = nearest[: nearest.index(baseline.commit)]
    places = {commit: i for i, commit in enumerate(nearest[:MOST_SINCE])}
    found = [r for r in judged_runs_of(session, run.project_id, list(places)) if r.purpose == family(run)]
    return sorted(found, key=lambda r: (places[r.commit], -r.number))


def compare_runs(session: Session, run: Run, baseline: Run | None, since: Sequence[Run]) -> Compared:
    """Compare the trusted, non-advisory cells of a run with the same cells of its baseline."""
    attempts = trusted_attempts(session, run)
    current = _by_cell(attempts, outcomes_of(session, list(attempts.values())))
    for name, earlier in earlier_attempts(session, run).items():
        if name in current:
            current[name] = with_earlier(current[name], list(outcomes_of(session, earlier).values()))
    pairs = [(m.now, m.before) for m in moves_of(session, run.project_id).values()]
    before: RunOutcomes | None = None
    if baseline is not None:
        found = trusted_attempts(session, baseline)
        aside = set_aside_at(session, run.project_id, baseline.ended_at or baseline.created_at)
        then = _by_cell(found, outcomes_of(session, list(found.values())))
        before = renamed(without_failures(then, aside), pairs)
    between: list[RunOutcomes] = []
    for other in since[:MOST_COMPARED]:
        found = trusted_attempts(session, other)
        between.append(renamed(_by_cell(found, failing_outcomes_of(session, list(found.values()))), pairs))
    aside = list(quarantined_tests(session, run.project_id))
    return Compared(current, before, compare(current, before, between, aside), attempts)


def _by_cell(attempts: Mapping[CellName, int], outcomes: Mapping[int, Any]) -> dict[CellName, Any]:
    return {name: outcomes[attempt] for name, attempt in attempts.items()}


def family(run: Run) -> str:
    """The purpose whose verdicts a run is compared with: a schedule's own, uploads with uploads, else pushes."""
    return run.purpose if run.event in ("schedule", "upload") else "push"
