"""The cells of a run, and what a run says of its jobs beside them."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from sqlalchemy import delete
from sqlalchemy.orm import Session

from myriant.core.matrix.expand import Cell as PlannedCell
from myriant.core.plan.intent import Event, Intent, JobIntent, steps_for
from myriant.core.plan.model import Job
from myriant.flow.planning.grants import names_wanted
from myriant.flow.state.runs import hold_untested
from myriant.store.tables import Cell, Run


def told_of(found: Intent) -> list[dict[str, Any]]:
    """What the run says of its jobs beside their cells: why one does not run, why it does, what a sample hides."""
    told = []
    for job in found.jobs:
        row: dict[str, Any] = {"job": job.job.id, "title": job.job.title}
        if job.reason or job.because:
            row |= {"reason": job.reason, "because": job.because}
        if job.blind is not None and job.blind.missed:
            row |= {
                "blind": {
                    "size": job.blind.size, "missed": job.blind.missed, "possible": job.blind.possible,
                    "examples": list(job.examples),
                }
            }  # fmt: skip
        if len(row) > 2:
            told.append(row)
    return told


def make_cells(session: Session, run: Run, found: Intent, state: str = "waiting") -> None:
    """The run's cells, in the order of the plan."""
    session.execute(delete(Cell).where(Cell.run_id == run.id))
    position = 0
    for job in found.jobs:
        for cell in job.cells if job.runs else ():
            session.add(_cell(run, found.event, job, cell, position, state))
            position += 1
    run.state, run.reason = state, ""
    session.flush()
    if position == 0:
        hold_untested(session, run, "no cell is left of the plan: every combination is dropped")


def _cell(run: Run, event: Event, found: JobIntent, cell: PlannedCell, position: int, state: str) -> Cell:
    job = found.job
    waits = bool(job.after or job.gated or job.approval)
    reason = (
        "waits for the verdict" if job.gated else f"after {', '.join(a.job for a in job.after)}" if job.after else ""
    )
    made = Cell(
        run_id=run.id,
        job=job.id,
        job_title=job.title,
        position=position,
        key=cell.key,
        values=cell.values,
        wants=list(cell.wants),
        advisory=cell.advisory,
        selected=cell.selected,
        gated=job.gated,
        ready=not waits,
        at_once=job.at_once,
        content=_content(run, event, job, cell),
        state=state,
        reason=reason,
    )
    if not cell.selected:
        made.state, made.mark, made.reason = "skipped", "not-selected", "not selected by the sample"
    return made


def _content(run: Run, event: Event, job: Job, cell: PlannedCell) -> str | None:
    """A digest of all that decides a cell's result but the exact runtimes; None for what is never reused."""
    if job.gated or names_wanted(job) or not cell.selected:
        return None
    steps = [i for i, (_, skipped) in enumerate(steps_for(job, cell.values, event)) if not skipped]
    parts = [run.project_id, run.tree, run.plan_digest, job.id, cell.key, steps, cell.wants]
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()
