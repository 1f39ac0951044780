"""Advance: what a cell's end means for those that wait for it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from sqlalchemy.orm import Session

from myriant.core.gate.gated import said_of_gated
from myriant.core.gate.sentence import is_said_anew
from myriant.core.plan.model import Job, Plan
from myriant.core.states import OPEN, ApprovalState, State, Verdict, Why
from myriant.flow.state import approvals, cells, runs
from myriant.flow.state.reuse import reuse_answers, see_handed_over
from myriant.store.cells import cells_of
from myriant.store.changes import ring_runners
from myriant.store.releases import released_beside
from myriant.store.tables import Approval, Cell, Run

_BAD = (State.FAILED, State.VOID)


def advance(session: Session, run: Run, plan: Plan | None, ended: Cell | None = None) -> None:
    """Release the cells whose turn it is, skip those whose turn never comes, and call for the verdict at the end.

    Without a plan (one that today's reader refuses) nothing is released, and what has run is still judged.
    When the cell that `ended` did not pass, the run may be held before the others have.
    """
    every = cells_of(session, run.id)
    by_job: dict[str, list[Cell]] = {}
    for cell in every:
        by_job.setdefault(cell.job, []).append(cell)
    jobs = plan.jobs if plan is not None else ()
    changed = True
    while changed:
        changed = False
        for job in jobs:
            mine = [c for c in by_job.get(job.id, ()) if c.state == State.WAITING and not c.ready]
            if mine:
                changed = _release(session, run, job, mine, by_job) or changed
    _stop_early(jobs, by_job)
    session.flush()
    ring_runners(session)
    judged = run.verdict != Verdict.UNDECIDED and run.ended_at is not None
    if not judged:
        bad = ended is not None and ended.state in _BAD and not ended.advisory
        news = bad and (run.verdict == Verdict.UNDECIDED or is_said_anew(sum(c.state in _BAD for c in every)))
        left = [c for c in every if c.state in OPEN and not c.gated]
        if news or all(c.advisory and c.state == State.WAITING for c in left):
            runs.call_for_conclusion(session, run, urgent=True)  # what no runner can take keeps no verdict open
    elif ended is not None and ended.advisory and not any(c.state in OPEN and not c.gated for c in every):
        runs.call_for_conclusion(session, run)  # it informs after the verdict
    elif any(c.gated for c in every):
        tell_gated(session, run, every)


def _release(session: Session, run: Run, job: Job, mine: Sequence[Cell], by_job: Mapping[str, list[Cell]]) -> bool:
    """Whether something changed for the waiting cells of a job."""
    for awaited in job.after:
        binding = [c for c in by_job.get(awaited.job, ()) if not c.advisory and c.selected]
        if any(c.state in OPEN for c in binding):
            return _say(mine, Why.AFTER, f"after {awaited.job}")
        if not awaited.even_if_failed and any(c.state != State.PASSED for c in binding):
            return _skip(mine, Why.AFTER, f"{awaited.job} did not pass")
    behind = job.gated and not job.housekeeping
    if behind and (run.verdict != Verdict.CLEAR or run.ended_at is None):
        if run.verdict in (Verdict.HELD, Verdict.EXEMPT):
            return _skip(mine, Why.GATED, f"the verdict is {run.verdict}")
        return _say(mine, Why.GATED, "waits for the verdict")
    if job.approval is not None:
        word = session.get(Approval, (run.id, job.id))
        by = " or ".join(job.approval.by)
        if word is None:
            approvals.ask(session, run, job.id, job.approval.within)
        if word is None or word.state == ApprovalState.WAITING:
            return _say(mine, Why.APPROVAL, f"waits for an approval by {by}")
        if word.state != ApprovalState.GIVEN:
            refused = word.state == ApprovalState.REFUSED
            why = f"{word.by} did not approve" if refused else f"no approval by {by} came in time"
            return _skip(mine, Why.APPROVAL, why)
    if behind and (other := released_beside(session, run, job.id)):
        return _say(mine, Why.GATED, f"waits for #{other}, where {job.id} goes on: one release at a time")
    for cell in mine:
        cells.release(cell)
    see_handed_over(session, run, job, mine)
    session.flush()
    reuse_answers(session, run, mine)
    return True


def _say(mine: Iterable[Cell], why: Why, reason: str) -> bool:
    for cell in mine:
        cells.keep_waiting(cell, why, reason)
    return False


def _skip(mine: Iterable[Cell], why: Why, reason: str) -> bool:
    for cell in mine:
        cells.skip(cell, why, reason)
    return True


def _stop_early(jobs: Iterable[Job], by_job: Mapping[str, list[Cell]]) -> None:
    for job in jobs:
        mine = by_job.get(job.id, [])
        failed = next((c for c in mine if c.state in _BAD and not c.advisory), None)
        if job.stop_early and failed is not None:
            for cell in mine:
                if cell.state == State.WAITING:
                    cells.stop(cell, Why.STOPPED_EARLY, f"stopped early: {failed.key or job.id} did not pass")


def tell_gated(session: Session, run: Run, every: Sequence[Cell]) -> None:
    """Say how the jobs behind the verdict stand; they never change it."""
    said = said_of_gated([c for c in every if c.gated])
    if said != run.gated_said:
        run.gated_said = said
        runs.call_for_announcement(session, run)
