"""Questions about projects, runs and cells."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from sqlalchemy import ColumnElement, case, func, literal_column, select, text, update
from sqlalchemy.dialects.postgresql import distinct_on
from sqlalchemy.orm import Session, aliased

from myriant.store.tables import Attempt, Cell, Project, Run, Runner

OPEN = ("waiting", "running")
_IN_ORDER = text("SELECT set_config('enable_sort', 'off', true), set_config('enable_bitmapscan', 'off', true)")
WAITING: ColumnElement[str] = literal_column("'waiting'")  # as partial indexes have them
RUNNING: ColumnElement[str] = literal_column("'running'")


def project_named(session: Session, name: str) -> Project | None:
    return session.scalar(select(Project).where(Project.name == name))


def next_run_number(session: Session, project_id: int) -> int:
    """Take the project's next run number; numbers have no gaps and no repeats."""
    taken: int | None = session.scalar(
        update(Project)
        .where(Project.id == project_id)
        .values(next_number=Project.next_number + 1)
        .returning(Project.next_number - 1)
    )
    assert taken is not None
    return taken


def deepest_on(session: Session, project_id: int, branch: str) -> int:
    """The depth of the newest run of a branch in the order of ancestry, -1 without runs."""
    query = select(func.max(Run.depth)).where(Run.project_id == project_id, Run.branch == branch)
    deepest = session.scalar(query)
    return -1 if deepest is None else deepest


def run_numbered(session: Session, project_id: int, number: int) -> Run | None:
    return session.scalar(select(Run).where(Run.project_id == project_id, Run.number == number))


def newest_run_of_commit(session: Session, commit: str, purpose: str | None = None) -> Sequence[Run]:
    """Runs of a commit (in any project), newest first; a newer run of a purpose outweighs an older one."""
    query = select(Run).where(Run.commit == commit).order_by(Run.number.desc())
    return session.scalars(query.where(Run.purpose == purpose) if purpose else query).all()


def newest_clear_run(session: Session, run: Run, ancestors: Sequence[str], purpose: str) -> Run | None:
    """Of the nearest of `ancestors` (nearest first) whose newest verdict for the purpose is clear, that run."""
    if not ancestors:
        return None
    newest = (
        select(Run)
        .where(Run.project_id == run.project_id, Run.purpose == purpose, Run.commit.in_(ancestors), Run.id != run.id)
        .where(Run.verdict.in_(("clear", "held")))
        .ext(distinct_on(Run.commit))
        .order_by(Run.commit, Run.number.desc())
    )
    by_commit = {r.commit: r for r in session.scalars(newest)}
    return next((by_commit[c] for c in ancestors if c in by_commit and by_commit[c].verdict == "clear"), None)


def judged_runs_of(session: Session, project_id: int, commits: Sequence[str]) -> Sequence[Run]:
    if not commits:
        return []
    return session.scalars(
        select(Run).where(Run.project_id == project_id, Run.commit.in_(commits), Run.verdict.in_(("clear", "held")))
    ).all()


def cells_of(session: Session, run_id: int) -> Sequence[Cell]:
    return session.scalars(select(Cell).where(Cell.run_id == run_id).order_by(Cell.position)).all()


def attempts_of(session: Session, cells: Sequence[Cell]) -> dict[int, Attempt]:
    """The newest attempt of each cell that has one, by the attempt's id."""
    ids = [c.attempt_id for c in cells if c.attempt_id is not None]
    return {a.id: a for a in session.scalars(select(Attempt).where(Attempt.id.in_(ids)))} if ids else {}


def waiting_cells(session: Session, offers: Sequence[str], free: int) -> Sequence[Cell]:
    """Cells that a runner with these offers could take, those whose turn it is first, locked for this transaction.

    They are read in the order of the index: after a burst of new cells the planner knows nothing of it yet, and
    would sort all that waits for each claim (measured: 10 ms instead of 0.1 ms with 10,000 cells).
    """
    session.execute(_IN_ORDER)
    other = aliased(Cell)
    beside = (
        select(func.count())
        .where(other.run_id == Cell.run_id, other.job == Cell.job, other.state == RUNNING)
        .correlate(Cell)
        .scalar_subquery()
    )
    return session.scalars(
        select(Cell)
        .where(Cell.state == WAITING, Cell.ready, Cell.wants.contained_by(list(offers)))
        .where(case((Cell.at_once.is_(None), True), else_=beside < Cell.at_once))
        .order_by(Cell.rank, Cell.id)
        .limit(free)
        .with_for_update(skip_locked=True)
    ).all()


def running_beside(session: Session, cell: Cell) -> int:
    """How many cells of the same job and run are running now; no other claim looks at this run meanwhile.

    A lock of its own: the run's row is locked by those that also change waiting cells, in the other order.
    """
    session.execute(select(func.pg_advisory_xact_lock(cell.run_id)))
    count = select(func.count()).where(Cell.run_id == cell.run_id, Cell.job == cell.job, Cell.state == "running")
    return session.scalar(count) or 0


def older_waiting_runs(session: Session, run: Run) -> Sequence[Run]:
    """Undecided runs of the same purpose and branch that came before."""
    return session.scalars(
        select(Run).where(
            Run.project_id == run.project_id, Run.purpose == run.purpose, Run.branch == run.branch,
            Run.number < run.number, Run.verdict.in_(("undecided", "held")), Run.state.in_(OPEN),
            Run.ended_at.is_(None),
        )
    ).all()  # fmt: skip


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
        .where(Cell.state.in_(("passed", "failed")))
        .order_by(Cell.id)
    )
    return {cell.content or "": (cell, attempt, number) for cell, attempt, number in rows}


def expired_leases(session: Session) -> Sequence[Attempt]:
    return session.scalars(
        select(Attempt)
        .where(Attempt.state == RUNNING, Attempt.lease_until < func.now())
        .with_for_update(skip_locked=True)
    ).all()


def open_leases_of(session: Session, runner_id: int) -> Sequence[Attempt]:
    return session.scalars(
        select(Attempt).where(Attempt.state == RUNNING, Attempt.runner_id == runner_id).with_for_update()
    ).all()


IN_TOUCH = timedelta(seconds=60)  # a runner that was heard of so lately can be counted on


def runners_in_touch(session: Session) -> Sequence[Runner]:
    since = datetime.now(UTC) - IN_TOUCH
    return session.scalars(select(Runner).where(Runner.seen_at >= since).order_by(Runner.name)).all()
