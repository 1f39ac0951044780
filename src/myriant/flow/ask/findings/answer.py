"""Findings: what did not pass in a run, by cause, beside a baseline, with all that is known of each."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.diagnosis.kinds import usual_kinds
from myriant.flow.ask.findings.causes import causes_of
from myriant.flow.ask.findings.model import Findings
from myriant.flow.ask.findings.others import others_of
from myriant.flow.ask.findings.troubled import troubled_cells
from myriant.flow.ask.kinds import kinds_of
from myriant.flow.ask.lines import run_line
from myriant.flow.conclude.comparing import Compared, ancestors, compare_runs, gate_baseline, runs_since
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.store.runs import cells_of
from myriant.store.tables import Project, Run


def findings_of(site: Site, name: str, number: int, base: int | None) -> Findings:
    """What did not pass in a run, by cause, beside its gate baseline or the run numbered `base`. Raises NotFound."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        row = the_run(session, project, number)
        baseline, compared = beside(site, session, project, row, base)
        cells = cells_of(session, row.id)
        rules = (*kinds_of(session, project.id), *usual_kinds())
        listed, more, tests = causes_of(session, project, row, compared, cells, rules)
        vanished = {int(n) for c in compared.cells.values() for n in c.vanished.nonzero()[0]}
        fixed = {int(n) for c in compared.cells.values() for n in c.fixed.nonzero()[0]}
        others = others_of(site, session, project, row, baseline, compared, cells, vanished)
        return Findings(
            run_line(baseline) if baseline else None, base is not None, tests, listed, more, others,
            troubled_cells(site, session, cells, rules), len(fixed),
            len(vanished),
        )  # fmt: skip


def beside(site: Site, session: Session, project: Project, row: Run, base: int | None) -> tuple[Run | None, Compared]:
    """A run's reading baseline and the comparison with it."""
    if base is not None:
        baseline: Run | None = the_run(session, project, base)
        return baseline, compare_runs(session, row, baseline, [])
    stored = session.get(Run, row.baseline_id) if row.baseline_id else None
    baseline = stored if row.verdict in ("clear", "held") else gate_baseline(site, session, row)
    since = runs_since(session, row, baseline, ancestors(site, session, row))
    return baseline, compare_runs(session, row, baseline, since)
