"""Questions about cells: those of a run, what they took before, whose result another answers for."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from myriant.core.states import OPEN, TRUSTED, Mark, State
from myriant.store.runs import RUNNING, WAITING
from myriant.store.tables import Attempt, Cell, Project, Run


def marks_of_runs(session: Session, runs: Sequence[int]) -> Sequence[tuple[int, str, str, str, Mark, bool]]:
    """Run, job, title, key, mark and whether it is advisory, of each cell; newest runs first, in the plan's order."""
    query = select(Cell.run_id, Cell.job, Cell.job_title, Cell.key, Cell.mark, Cell.advisory)
    query = query.where(Cell.run_id.in_(runs)).order_by(Cell.run_id.desc(), Cell.position)
    return session.execute(query).all()


def progress_of_runs(session: Session, runs: Sequence[int]) -> dict[int, tuple[int, int, int, int]]:
    """Of each run's cells that its verdict waits for: how many have ended, are there, run, have failed so far."""
    found = dict.fromkeys(runs, (0, 0, 0, 0))
    if runs:
        asked = (
            select(
                Cell.run_id,
                func.count().filter(Cell.state.not_in(OPEN)),
                func.count(),
                func.count().filter(Cell.state == State.RUNNING),
                func.count().filter(Cell.state == State.FAILED),
            )
            .where(Cell.run_id.in_(runs), Cell.selected, ~Cell.gated)
            .group_by(Cell.run_id)
        )
        found |= {run: (ended, cells, running, failed) for run, ended, cells, running, failed in session.execute(asked)}
    return found


def cells_of(session: Session, run_id: int) -> Sequence[Cell]:
    return session.scalars(select(Cell).where(Cell.run_id == run_id).order_by(Cell.position)).all()


def running_beside(session: Session, run_id: int, job: str) -> int:
    """How many cells of a job of a run are running now; no other claim looks at this run meanwhile.

    A lock of its own: the run's row is locked by those that also change waiting cells, in the other order.
    """
    session.execute(select(func.pg_advisory_xact_lock(run_id)))
    count = select(func.count()).where(Cell.run_id == run_id, Cell.job == job, Cell.state == State.RUNNING)
    return session.scalar(count) or 0


def cell_values(session: Session, run_id: int) -> dict[tuple[str, str], dict[str, str]]:
    """The dimension values of a run's cells, by job and key."""
    query = select(Cell.job, Cell.key, Cell.values).where(Cell.run_id == run_id)
    return {(job, key): values for job, key, values in session.execute(query)}


def open_cells_of(session: Session, run_id: int) -> Sequence[Cell]:
    query = select(Cell).where(Cell.run_id == run_id, Cell.state.in_(OPEN))
    return session.scalars(query.order_by(Cell.position)).all()


def locked_cells(session: Session, cells: Collection[int]) -> Sequence[Cell]:
    """These cells as they are now, locked for this transaction in the order of their ids."""
    query = select(Cell).where(Cell.id.in_(cells)).order_by(Cell.id).with_for_update()
    return session.scalars(query, execution_options={"populate_existing": True}).all()


def cells_of_job(session: Session, run_id: int, job: str) -> Sequence[Cell]:
    query = select(Cell).where(Cell.run_id == run_id, Cell.job == job)
    return session.scalars(query.order_by(Cell.position)).all()


def cells_left_to_judge(session: Session, run_id: int) -> int:
    """How many cells before the verdict still wait or run."""
    left = select(func.count()).where(Cell.run_id == run_id, Cell.state.in_(OPEN), ~Cell.gated)
    return session.scalar(left) or 0


def remove_cells(session: Session, run_id: int) -> None:
    session.execute(delete(Cell).where(Cell.run_id == run_id))


def remove_gated_cells(session: Session, run_id: int) -> None:
    session.execute(delete(Cell).where(Cell.run_id == run_id, Cell.gated))


def selected_by_job(session: Session, run_id: int) -> dict[str, int]:
    """How many cells of each job the sample chose."""
    query = select(Cell.job, func.count()).where(Cell.run_id == run_id, Cell.selected).group_by(Cell.job)
    return dict(session.execute(query).all())


def past_cells(
    session: Session, run: Run, job: str, most: int
) -> Sequence[tuple[str, Mark, int | None, datetime, datetime | None]]:
    """Key, mark, run it was reused from, begin and end of the newest cells of a job with a result, before a run."""
    query = select(Cell.key, Cell.mark, Cell.reused, Attempt.created_at, Attempt.ended_at)
    query = query.join(Run, Run.id == Cell.run_id).join(Attempt, Attempt.id == Cell.attempt_id)
    query = query.where(Run.project_id == run.project_id, Cell.job == job, Run.id < run.id, Cell.state.in_(TRUSTED))
    return session.execute(query.order_by(Cell.id.desc()).limit(most)).all()


def seconds_of_cells(
    session: Session, project_id: int, jobs: Sequence[str], runs: int
) -> Sequence[tuple[str, str, float | None]]:
    """Job, key and seconds of each cell with a result of its own in the newest runs."""
    newest = select(Run.id).where(Run.project_id == project_id).order_by(Run.id.desc()).limit(runs)
    took = func.extract("epoch", Attempt.ended_at - func.coalesce(Attempt.started_at, Attempt.created_at))
    query = select(Cell.job, Cell.key, took).join(Attempt, Attempt.id == Cell.attempt_id)
    query = query.where(Cell.run_id.in_(newest), Cell.job.in_(jobs), Attempt.state.in_(TRUSTED), Cell.reused.is_(None))
    return session.execute(query).all()


def rank_served_now(session: Session, but: int = 0) -> float:
    """The rank at which the queue stands: of what started last, else of what is first, without the run `but`."""
    others = Cell.run_id != but
    running = session.scalar(select(func.max(Cell.rank)).where(Cell.state == RUNNING, others))
    if running is not None:
        return running
    waiting = session.scalar(select(func.min(Cell.rank)).where(Cell.state == WAITING, Cell.ready, others))
    if waiting is not None:
        return waiting
    return session.scalar(select(func.max(Project.served))) or 0.0


def give_back_turns(session: Session, project_id: int, unused: float) -> None:
    """Take from a project's rank what it was charged for cells that never ran."""
    if unused:
        session.execute(
            update(Project).where(Project.id == project_id).values(served=func.greatest(0.0, Project.served - unused))
        )


def earlier_sample(session: Session, project_id: int, branch: str, job: str) -> set[str]:
    """Keys of the cells that the newest run with a sample chose for a job, on the branch or else on any."""
    sampled = (
        select(Run.id)
        .join(Cell, Cell.run_id == Run.id)
        .where(Run.project_id == project_id, Cell.job == job, ~Cell.selected)
        .order_by((Run.branch == branch).desc(), Run.depth.desc(), Run.number.desc())
        .limit(1)
    )
    newest = session.scalar(sampled)
    if newest is None:
        return set()
    return set(session.scalars(select(Cell.key).where(Cell.run_id == newest, Cell.job == job, Cell.selected)))


def answers_to(session: Session, run: Run, contents: Sequence[str]) -> dict[str, tuple[Cell, Attempt, int]]:
    """By content, the newest cell of another run with a trusted result for it, its attempt and the run's number."""
    rows = session.execute(
        select(Cell, Attempt, Run.number)
        .join(Attempt, Attempt.id == Cell.attempt_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == run.project_id, Run.id != run.id, Cell.content.in_(contents), Cell.reused.is_(None))
        .where(Cell.state.in_(TRUSTED), Attempt.pruned_at.is_(None))  # what was let go is made anew
        .order_by(Cell.id)
    )
    return {cell.content or "": (cell, attempt, number) for cell, attempt, number in rows}


def cells_of_runs(session: Session, runs: Collection[int]) -> Sequence[Cell]:
    """The cells of several runs, in the plans' order."""
    return session.scalars(select(Cell).where(Cell.run_id.in_(runs)).order_by(Cell.run_id, Cell.position)).all()
