"""Advance: what a cell's end means for those that wait for it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.plan.model import Job, Plan
from myriant.store.changes import ring_runners, tell
from myriant.store.queue import defer
from myriant.store.runs import OPEN, cells_of
from myriant.store.tables import Approval, Attempt, Cell, Project, Run


def advance(session: Session, run: Run, plan: Plan | None, ended: Cell | None = None) -> None:
    """Release the cells whose turn it is, skip those whose turn never comes, and call for the verdict at the end.

    Without a plan (one that today's reader refuses) nothing is released, and what has run is still judged.
    When the cell that `ended` did not pass, the run may be held before the others have.
    """
    cells = cells_of(session, run.id)
    by_job: dict[str, list[Cell]] = {}
    for cell in cells:
        by_job.setdefault(cell.job, []).append(cell)
    jobs = plan.jobs if plan is not None else ()
    changed = True
    while changed:
        changed = False
        for job in jobs:
            mine = [c for c in by_job.get(job.id, ()) if c.state == "waiting" and not c.ready]
            if mine:
                changed = _release(session, run, job, mine, by_job) or changed
    _stop_early(jobs, by_job)
    session.flush()
    ring_runners(session)
    open_now = [c for c in cells if c.state in OPEN]
    judged = run.verdict != "undecided" and run.ended_at is not None
    if not judged:
        bad = ended is not None and ended.state in ("failed", "void") and not ended.advisory
        if not any(not c.gated for c in open_now) or (bad and run.verdict == "undecided"):
            defer(session, "conclude", lock=f"run-{run.id}", priority=5, run_id=run.id)
    elif any(c.gated for c in cells):
        tell_gated(session, run, cells)


def _release(session: Session, run: Run, job: Job, cells: Sequence[Cell], by_job: dict[str, list[Cell]]) -> bool:
    """Whether something changed for the waiting cells of a job."""
    for awaited in job.after:
        binding = [c for c in by_job.get(awaited.job, ()) if not c.advisory and c.selected]
        if any(c.state in OPEN for c in binding):
            return _say(cells, f"after {awaited.job}")
        if not awaited.even_if_failed and any(c.state != "passed" for c in binding):
            return _skip(cells, f"{awaited.job} did not pass")
    if job.gated and (run.verdict != "clear" or run.ended_at is None):
        if run.verdict == "held":
            return _skip(cells, "the verdict is held")
        return _say(cells, "waits for the verdict")
    if job.approval is not None:
        word = session.get(Approval, (run.id, job.id))
        by = " or ".join(job.approval.by)
        if word is None:
            until = datetime.now(UTC) + timedelta(seconds=job.approval.within)
            session.add(Approval(run_id=run.id, job=job.id, state="waiting", until=until))
            session.flush()
            return _say(cells, f"waits for an approval by {by}")
        if word.state == "waiting":
            return _say(cells, f"waits for an approval by {by}")
        if word.state != "given":
            why = f"{word.by} did not approve" if word.state == "refused" else f"no approval by {by} came in time"
            return _skip(cells, why)
    for cell in cells:
        cell.ready, cell.reason = True, ""
    return True


def _say(cells: Iterable[Cell], reason: str) -> bool:
    for cell in cells:
        cell.reason = reason
    return False


def _skip(cells: Iterable[Cell], reason: str) -> bool:
    for cell in cells:
        cell.state, cell.mark, cell.reason = "skipped", "skipped", reason
    return True


def _stop_early(jobs: Iterable[Job], by_job: dict[str, list[Cell]]) -> None:
    for job in jobs:
        cells = by_job.get(job.id, [])
        failed = next((c for c in cells if c.state in ("failed", "void") and not c.advisory), None)
        if job.stop_early and failed is not None:
            for cell in cells:
                if cell.state == "waiting":
                    cell.state = cell.mark = "stopped"
                    cell.reason = f"stopped early: {failed.key or job.id} did not pass"


def stop_cells(session: Session, project: Project, run: Run, cells: Sequence[Cell], reason: str) -> None:
    """End cells that wait or run; the run is concluded when nothing of it is left."""
    for cell in cells:
        if cell.state == "running" and cell.attempt_id is not None:
            attempt = session.get_one(Attempt, cell.attempt_id, with_for_update=True)
            if attempt.state == "running":
                attempt.state, attempt.reason, attempt.ended_at = "stopped", reason, func.now()
        cell.state, cell.mark, cell.reason = "stopped", "stopped", reason
    if not cells:
        return
    session.flush()
    session.refresh(run, with_for_update=True)  # after the attempts, as everywhere
    left = select(func.count()).where(Cell.run_id == run.id, Cell.state.in_(OPEN), ~Cell.gated)
    if not session.scalar(left) and run.ended_at is None:
        defer(session, "conclude", lock=f"run-{run.id}", run_id=run.id)
    tell(session, "run", project.name, run.number)


def tell_gated(session: Session, run: Run, cells: Sequence[Cell]) -> None:
    """Say how the jobs behind the verdict stand; they never change it."""
    said = []
    for job in dict.fromkeys(c.job for c in cells if c.gated):
        mine = [c for c in cells if c.job == job and c.selected]
        states = {c.state for c in mine if not c.advisory} or {c.state for c in mine}
        reason = next((c.reason for c in mine if c.reason), "")
        if "running" in states:
            said.append(f"{job} runs")
        elif "waiting" in states:
            said.append(f"{job} {reason}" if reason.startswith("waits") else f"{job} waits")
        elif states == {"passed"}:
            said.append(f"{job} passed")
        else:
            state = next(s for s in ("failed", "void", "stopped", "skipped", "passed") if s in states)
            said.append(
                f"{job} {'failed' if state == 'failed' else f'was {state}' if state != 'void' else 'is void'}"
                + (f": {reason}" if reason else "")
            )
    text = f"Then {'; '.join(said)}." if said else ""
    if text != run.gated_said:
        run.gated_said = text
        defer(session, "announce", lock=f"notes-{run.project_id}", run_id=run.id)
