"""A run beside its reading baseline: what every section compares with."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy.orm import Session

from myriant.core.gate.marks import mark_of
from myriant.core.results.model import Outcome
from myriant.core.states import DECIDED, Mark
from myriant.flow.compare.outcomes import Compared, compare_run
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.store.cells import cells_of
from myriant.store.judged import job_results_of, runs_with_ids
from myriant.store.tables import Project, Run


def beside(session: Session, project: Project, row: Run, base: int | None) -> tuple[Run | None, Compared]:
    """The reading baseline, and the comparison with it: each job's own, or the run numbered `base` for all of them.

    What was in quarantine when the run was judged is so here, whatever began or ended since: its verdict is of then.
    """
    aside = row.measures.aside if row.verdict in DECIDED else None
    if base is not None:
        chosen = the_run(session, project, base)
        jobs = {c.job for c in cells_of(session, row.id)}
        return chosen, compare_run(session, row, dict.fromkeys(jobs, chosen), aside=aside)
    results = job_results_of(session, row.id)
    since = list(row.measures.since)
    runs = runs_with_ids(session, {*(r.baseline_id for r in results.values() if r.baseline_id is not None), *since})
    baselines = {job: runs.get(r.baseline_id or 0) for job, r in results.items()}
    compared = compare_run(session, row, baselines, [runs[i] for i in since if i in runs], aside)
    return compared.nearest, compared


@dataclass(frozen=True, slots=True)
class CellMark:
    """A cell's mark against another run than its own baseline."""

    job: str
    key: str
    mark: Mark


def marks_against(site: Site, name: str, number: int, base: int) -> list[CellMark]:
    """The marks of a run's compared cells as they are against run `base`; the others keep theirs. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        row = the_run(session, project, number)
        _, compared = beside(session, project, row, base)
        return [
            CellMark(
                c.job,
                c.key,
                mark_of(
                    c.state,
                    result,
                    unexplained=bool(c.counts.unexplained),
                    flaky=bool((compared.current[c.job, c.key] == Outcome.FLAKY).any()),
                ),
            )
            for c in cells_of(session, row.id)
            if (result := compared.cells.get((c.job, c.key))) is not None
        ]
