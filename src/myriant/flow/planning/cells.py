"""The cells of a run, and what a run says of its jobs beside them."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.matrix.expand import Cell as PlannedCell
from myriant.core.plan.content import part_of_plan
from myriant.core.plan.intent import Event, Fate, Intent, JobIntent, steps_for
from myriant.core.plan.model import Job
from myriant.core.states import State, Why
from myriant.flow.compare.grants import names_wanted
from myriant.flow.plans import told_to
from myriant.flow.state import cells, runs
from myriant.store.cells import cells_of, remove_cells
from myriant.store.tables import Cell, Run


def told_of(found: Intent) -> list[dict[str, Any]]:
    """What the run says of its jobs beside their cells: why one does not run, why it does, what a sample hides."""
    told = []
    for job in found.jobs:
        if job.job.housekeeping and not job.runs:
            continue  # it is no part of what is tested
        row: dict[str, Any] = {"job": job.job.id, "title": job.job.title}
        if job.reason or job.because:
            row |= {"reason": job.reason, "because": job.because}
        if job.blind is not None and job.blind.missed:
            row |= {
                "blind": {
                    "size": job.blind.size,
                    "missed": job.blind.missed,
                    "possible": job.blind.possible,
                    "examples": list(job.examples),
                }
            }
        if len(row) > 2:
            told.append(row)
    return told


def make_cells(
    session: Session, run: Run, found: Intent, good: Mapping[str, Run | None] = MappingProxyType({}), tags: str = ""
) -> bool:
    """The run's cells, in the order of the plan; those of excused jobs are brought along from their baseline.

    `tags` is a digest of the repository's tags, for the jobs that see them.

    False when no cell is left, which holds the run.
    """
    remove_cells(session, run.id)
    position = 0
    for job in found.jobs:
        part = part_of_plan(job.job)
        for cell in job.cells if job.runs and not (job.job.gated and run.batch_id is not None) else ():
            session.add(_cell(run, found.event, job, cell, position, f"{part}{tags if job.job.source.tags else ''}"))
            position += 1
        base = good.get(job.job.id) if job.fate is Fate.EXCUSED else None
        if base is not None:
            position = _bring_along(session, run, base, job, position)
    runs.plan(run)
    session.flush()
    if position > 0:
        runs.call_for_telling(session, run)
    if position == 0:
        runs.hold_untested(session, run, Why.NO_CELLS, "no cell is left of the plan: every combination is dropped")
    return position > 0


def _bring_along(session: Session, run: Run, base: Run, job: JobIntent, position: int) -> int:
    """The cells of an excused job, with the results that they have at its baseline."""
    for then in cells_of(session, base.id):
        if then.job not in (job.job.id, *job.job.formerly) or not then.selected or then.attempt_id is None:
            continue
        cell = Cell(
            run_id=run.id,
            job=job.job.id,
            job_title=job.job.title,
            position=position,
            key=then.key,
            values=then.values,
            wants=then.wants,
            advisory=then.advisory,
            gated=False,
            ready=True,
            state=State.WAITING,
            counts=then.counts.alone(),
        )
        number = then.reused or base.number
        cells.take_over(
            cell, then.state, then.attempt_id, number, Why.BROUGHT_ALONG, f"{job.reason}: brought along from #{number}"
        )
        session.add(cell)
        position += 1
    return position


def _cell(run: Run, event: Event, found: JobIntent, cell: PlannedCell, position: int, part: str) -> Cell:
    job = found.job
    behind = job.gated and not job.housekeeping
    waits = bool(job.after or behind or job.approval)
    reason = "waits for the verdict" if behind else f"after {', '.join(a.job for a in job.after)}" if job.after else ""
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
        housekeeping=job.housekeeping,
        ready=not waits,
        at_once=job.at_once,
        content=_content(run, event, job, cell, part),
        state=State.WAITING,
        why=Why.GATED if behind else Why.AFTER if job.after else Why.NOTHING,
        reason=reason,
    )
    if not cell.selected:
        cells.skip(made, Why.NOT_SELECTED, "not selected by the sample")
    return made


def _content(run: Run, event: Event, job: Job, cell: PlannedCell, part: str) -> str | None:
    """A digest of all that decides a cell's result but the exact runtimes; None for what is never reused."""
    if job.gated or names_wanted(job) or not cell.selected:
        return None
    steps = [i for i, (_, skipped) in enumerate(steps_for(job, cell.values, event)) if not skipped]
    seen = told_to(job, run)
    taken = [[t["path"], t["digest"]] for t in run.taken if t["job"] == job.id]
    parts = [run.project_id, run.tree, part, job.id, cell.key, steps, cell.wants, seen, *([taken] if taken else [])]
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()
