"""Running again: the next attempts of a run's cells, judged together with the earlier ones."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy.orm import Session

from myriant.core.plan.intent import awaited_by
from myriant.core.plan.model import Plan
from myriant.core.plan.selectors import Selector, SelectorError, parse_selector
from myriant.core.states import OPEN, State
from myriant.flow.errors import BadInput, NotFound, Refused
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.flow.state import approvals, cells, runs
from myriant.flow.state.advance import advance
from myriant.flow.state.exemptions import stand_anew
from myriant.flow.who import Person
from myriant.store.attempts import attempts_that_handed_over_what_went
from myriant.store.cells import cells_of
from myriant.store.changes import tell
from myriant.store.controls import forget_waiting_controls
from myriant.store.judged import reopen_job_results
from myriant.store.projects import project_named
from myriant.store.runs import run_numbered
from myriant.store.tables import Cell, Project, Run

WHICH = ("all", "not-passed", "chosen")


def run_again(site: Site, project_name: str, number: int, which: str, chosen: str, who: Person) -> int:
    """Give cells of a run another attempt; how many. Cells that the sample left out can be chosen as well.

    Raises NotFound, BadInput, Refused.
    """
    selector = _selector(chosen) if which == "chosen" else None
    with site.store.transaction() as session:
        project = project_named(session, project_name)
        run = run_numbered(session, project.id, number) if project is not None else None
        if project is None or run is None:
            raise NotFound(f"there is no run #{number}")
        return again_in(session, project, run, which, selector, who.name)


def again_in(session: Session, project: Project, run: Run, which: str, selector: Selector | None, by: str) -> int:
    """As `run_again`, of a run at hand.

    The order of jobs holds again: a cell waits for what runs again before it, a gated one for the new verdict. Gated
    cells that have passed (a release, most often) run again only when they are chosen, and ask for a new approval. The
    verdict is made anew when all have ended, and so is what the cells are given and is kept no longer. Raises BadInput,
    Refused before anything is changed.
    """
    session.refresh(run, with_for_update=True)
    plan = plan_of_run(session, run)
    if plan is None:
        raise Refused(f"#{run.number} has no plan that can be used", "push a commit with a plan")
    every = cells_of(session, run.id)
    chosen_cells = [c for c in every if c.state not in OPEN and _is_wanted(c, which, selector)]
    if not chosen_cells:
        raise BadInput("no cell of this run is to be run again", "choose others; those that run or wait go on anyway")
    chosen_cells += _whose_files_were_let_go(session, run, plan, every, chosen_cells)
    waits = {job.id for job in plan.jobs if job.after or (job.gated and not job.housekeeping) or job.approval}
    for job in {c.job for c in chosen_cells}:
        wanted = plan.find(job)
        if wanted is not None and wanted.approval is not None:
            approvals.ask(session, run, job, wanted.approval.within)
    for cell in chosen_cells:
        cells.again(cell, by, ready=cell.job not in waits)
    if any(not c.gated for c in chosen_cells):
        runs.reopen(run)
        runs.call_for_announcement(session, run)
        reopen_job_results(session, run.id)
        stand_anew(session, [run.id])
    forget_waiting_controls(session, run.id)
    session.flush()
    advance(session, run, plan)
    tell(session, "run", project.name, run.number)
    return len(chosen_cells)


def _whose_files_were_let_go(
    session: Session, run: Run, plan: Plan, every: Sequence[Cell], chosen: Sequence[Cell]
) -> list[Cell]:
    """Cells that handed over files which the chosen ones are given, and which are kept no longer: made anew."""
    jobs = {name for job in plan.jobs if job.id in {c.job for c in chosen} for name in awaited_by(plan, job)}
    gone = attempts_that_handed_over_what_went(session, run.id) if jobs else set()
    there = {c.id for c in chosen}
    return [c for c in every if c.job in jobs and c.attempt_id in gone and c.id not in there and c.state not in OPEN]


def _selector(chosen: str) -> Selector:
    try:
        return parse_selector(chosen)
    except SelectorError as error:
        raise BadInput(str(error), "write for example job=unit,python<=3.9") from error


def _is_wanted(cell: Cell, which: str, selector: Selector | None) -> bool:
    if selector is not None:
        return selector.holds({**cell.values, "job": cell.job})
    if not cell.selected:
        return False
    return cell.state != State.PASSED or (which == "all" and not cell.gated)
