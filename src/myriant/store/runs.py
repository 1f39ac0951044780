"""Questions about projects, runs and cells."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime

from sqlalchemy import ColumnElement, and_, case, delete, func, literal, literal_column, select, tuple_, update
from sqlalchemy.orm import Session, aliased

from myriant.core.states import DECIDED, OPEN, TRUSTED, ApprovalState, EventKind, Mark, State, Verdict
from myriant.store.tables import Approval, Attempt, Batch, Cell, Project, PullRequest, Report, Run, Segment

WAITING: ColumnElement[str] = literal_column("'waiting'")  # as partial indexes have them
RUNNING: ColumnElement[str] = literal_column("'running'")


def deepest_on(session: Session, project_id: int, branch: str) -> int:
    """The depth of the newest run of a branch in the order of ancestry, -1 without runs."""
    query = select(func.max(Run.depth)).where(Run.project_id == project_id, Run.branch == branch)
    deepest = session.scalar(query)
    return -1 if deepest is None else deepest


def runs_numbered(session: Session, project_id: int, numbers: Collection[int]) -> dict[int, Run]:
    """Runs by their numbers."""
    rows = session.scalars(select(Run).where(Run.project_id == project_id, Run.number.in_(numbers)))
    return {r.number: r for r in rows}


def newest_with_cell(
    session: Session, run: Run, numbers: Collection[int], job: str, key: str
) -> tuple[Run, int] | None:
    """Of the runs of these numbers on a run's branch the newest in the order of ancestry, and its attempt of a cell."""
    query = select(Run, Cell.attempt_id).join(Cell, Cell.run_id == Run.id)
    query = query.where(Run.project_id == run.project_id, Run.number.in_(numbers), Cell.job == job, Cell.key == key)
    query = query.where(Run.branch == run.branch, Cell.attempt_id.is_not(None))
    row = session.execute(query.order_by(Run.depth.desc(), Run.number.desc()).limit(1)).first()
    return (row[0], row[1] or 0) if row is not None else None


def newest_runs_of_pulls(session: Session, project_id: int) -> dict[int, int]:
    """By pull request, the number of its newest run."""
    query = select(Run.pull_request, func.max(Run.number)).where(Run.project_id == project_id)
    rows = session.execute(query.where(Run.pull_request.is_not(None)).group_by(Run.pull_request))
    return {pull: number for pull, number in rows if pull is not None}


PULL, TAGGED, BATCH = "pull request ", "tag ", "batch "


def on_ref(ref: str) -> ColumnElement[bool]:
    """Runs of a branch, of a tag ("tag v1.0"), of a pull request ("pull request 7") or a batch of them ("batch 2"),
    which no branch shows.
    """
    if ref.startswith(PULL) and ref.removeprefix(PULL).isdigit():
        return Run.pull_request == int(ref.removeprefix(PULL)[:9])
    if ref.startswith(BATCH) and ref.removeprefix(BATCH).isdigit():
        number = int(ref.removeprefix(BATCH)[:9])
        return Run.batch_id.in_(select(Batch.id).where(Batch.number == number, Batch.project_id == Run.project_id))
    if ref.startswith(TAGGED):
        return Run.tag == ref.removeprefix(TAGGED)
    return and_(Run.branch == ref, on_branch())


def on_branch() -> ColumnElement[bool]:
    """Runs of what is on a branch: of no merge that is only tried."""
    return and_(Run.pull_request.is_(None), Run.batch_id.is_(None))


def runs_on(session: Session, project_id: int, ref: str, most: int, before: Run | None = None) -> Sequence[Run]:
    """The newest runs on a ref in the order of ancestry, those before a run if given."""
    query = select(Run).where(Run.project_id == project_id, on_ref(ref))
    if ref.startswith(BATCH):  # of merges that stand beside each other: as they were tried
        query = query.where(Run.number < before.number) if before is not None else query
        return session.scalars(query.order_by(Run.number.desc()).limit(most)).all()
    if before is not None:
        query = query.where((Run.depth < before.depth) | ((Run.depth == before.depth) & (Run.number < before.number)))
    return session.scalars(query.order_by(Run.depth.desc(), Run.number.desc()).limit(most)).all()


def newest_runs_on_main(session: Session, most: int) -> dict[int, list[Run]]:
    """By project, the newest runs on its main branch in the order of ancestry, of all projects at once."""
    place = func.row_number().over(partition_by=Run.project_id, order_by=(Run.depth.desc(), Run.number.desc()))
    query = select(Run.id, place.label("place")).join(Project, Project.id == Run.project_id)
    ranked = query.where(Run.branch == Project.main_branch, on_branch()).subquery()
    rows = session.scalars(
        select(Run).join(ranked, ranked.c.id == Run.id).where(ranked.c.place <= most).order_by(ranked.c.place)
    )
    found: dict[int, list[Run]] = {}
    for run in rows:
        found.setdefault(run.project_id, []).append(run)
    return found


def refs_with_runs(session: Session, project_id: int, most: int) -> list[str]:
    """Branches, tags and pull requests that have runs, the latest used first."""
    named = case(
        (Run.pull_request.is_not(None), func.concat(PULL, Run.pull_request)),
        (Run.batch_id.is_not(None), func.concat(BATCH, Batch.number)),
        (Run.tag != "", func.concat(TAGGED, Run.tag)),
        else_=Run.branch,
    )
    refs = select(named).outerjoin(Batch, Batch.id == Run.batch_id).where(Run.project_id == project_id)
    refs = refs.group_by(named).order_by(func.max(Run.id).desc())
    return list(session.scalars(refs.limit(most)))


def marks_of_runs(session: Session, runs: Sequence[int]) -> Sequence[tuple[int, str, str, str, Mark, bool]]:
    """Run, job, title, key, mark and whether it is advisory, of each cell; newest runs first, in the plan's order."""
    query = select(Cell.run_id, Cell.job, Cell.job_title, Cell.key, Cell.mark, Cell.advisory)
    query = query.where(Cell.run_id.in_(runs)).order_by(Cell.run_id.desc(), Cell.position)
    return session.execute(query).all()


def progress_of_runs(session: Session, runs: Sequence[int]) -> dict[int, tuple[int, int, int, int]]:
    """Of each run's cells that its verdict waits for: how many have ended, are there, run, have failed so far."""
    found = dict.fromkeys(runs, (0, 0, 0, 0))
    if runs:
        asked = select(
            Cell.run_id, func.count().filter(Cell.state.not_in(OPEN)), func.count(),
            func.count().filter(Cell.state == State.RUNNING), func.count().filter(Cell.state == State.FAILED),
        ).where(Cell.run_id.in_(runs), Cell.selected, ~Cell.gated).group_by(Cell.run_id)  # fmt: skip
        found |= {run: (ended, cells, running, failed) for run, ended, cells, running, failed in session.execute(asked)}
    return found


def decided_before(session: Session, run: Run, most: int) -> Sequence[Run]:
    """The newest judged pushes to a run's branch that came before it."""
    context = f"{EventKind.PUSH} {run.branch}"
    query = select(Run).where(Run.project_id == run.project_id, Run.context == context, Run.number < run.number)
    return session.scalars(query.where(Run.verdict.in_(DECIDED)).order_by(Run.number.desc()).limit(most)).all()


def newest_decided(session: Session, project_id: int, context: str) -> Run | None:
    """The newest judged run of a context."""
    query = select(Run).where(Run.project_id == project_id, Run.context == context, Run.verdict.in_(DECIDED))
    return session.scalars(query.order_by(Run.number.desc()).limit(1)).first()


def newest_run_in(session: Session, project_id: int, context: str, commit: str) -> int | None:
    """The number of the newest run of a commit in a context."""
    query = select(func.max(Run.number)).where(Run.project_id == project_id, Run.context == context)
    return session.scalar(query.where(Run.commit == commit))


def newest_planned_push(session: Session, project_id: int, branch: str) -> Run | None:
    """The newest push to a branch, in the order of ancestry, whose plan was read."""
    query = select(Run).where(Run.project_id == project_id, Run.branch == branch, Run.event == EventKind.PUSH)
    query = query.where(Run.plan_digest.is_not(None)).order_by(Run.depth.desc(), Run.number.desc()).limit(1)
    return session.scalars(query).first()


def newest_upload(session: Session, project_id: int, commit: str, branch: str) -> Run | None:
    """The newest run of what was sent for a commit from elsewhere."""
    query = select(Run).where(Run.project_id == project_id, Run.commit == commit, Run.event == EventKind.UPLOAD)
    return session.scalars(query.where(Run.branch == branch).order_by(Run.number.desc()).limit(1)).first()


def run_numbered(session: Session, project_id: int, number: int) -> Run | None:
    return session.scalar(select(Run).where(Run.project_id == project_id, Run.number == number))


def runs_by_number(session: Session, wanted: Collection[tuple[int, int]]) -> dict[tuple[int, int], Run]:
    """Runs by project and number."""
    if not wanted:
        return {}
    rows = session.scalars(select(Run).where(tuple_(Run.project_id, Run.number).in_(wanted)))
    return {(r.project_id, r.number): r for r in rows}


def runs_of_commit(session: Session, commit: str) -> Sequence[Run]:
    """Runs of a commit (in any project), newest first."""
    return session.scalars(select(Run).where(Run.commit == commit).order_by(Run.number.desc())).all()


def baselines_back(session: Session, run: Run, most: int) -> list[int]:
    """The ids of a run, of its baseline, of that one's baseline … the newest first."""
    step = select(Run.id, Run.baseline_id, literal(1).label("hop")).where(Run.id == run.id).cte(recursive=True)
    there = aliased(Run)
    further = select(there.id, there.baseline_id, step.c.hop + 1).where(
        there.id == step.c.baseline_id, step.c.hop < most
    )
    step = step.union_all(further)
    return list(session.scalars(select(step.c.id).order_by(step.c.hop)))


def judged_runs_of(session: Session, project_id: int, commits: Sequence[str]) -> Sequence[Run]:
    if not commits:
        return []
    return session.scalars(
        select(Run).where(Run.project_id == project_id, Run.commit.in_(commits), Run.verdict.in_(DECIDED))
    ).all()


def cells_of(session: Session, run_id: int) -> Sequence[Cell]:
    return session.scalars(select(Cell).where(Cell.run_id == run_id).order_by(Cell.position)).all()


def running_beside(session: Session, run_id: int, job: str) -> int:
    """How many cells of a job of a run are running now; no other claim looks at this run meanwhile.

    A lock of its own: the run's row is locked by those that also change waiting cells, in the other order.
    """
    session.execute(select(func.pg_advisory_xact_lock(run_id)))
    count = select(func.count()).where(Cell.run_id == run_id, Cell.job == job, Cell.state == State.RUNNING)
    return session.scalar(count) or 0


def older_waiting_runs(session: Session, run: Run) -> Sequence[Run]:
    """Runs in the same context that came before and have not ended."""
    return session.scalars(
        select(Run).where(
            Run.project_id == run.project_id, Run.context == run.context, Run.number < run.number,
            Run.verdict.in_((Verdict.UNDECIDED, Verdict.HELD)), Run.state.in_(OPEN), Run.ended_at.is_(None),
        )
    ).all()  # fmt: skip


def approvals_of(session: Session, run_id: int) -> Sequence[Approval]:
    return session.scalars(select(Approval).where(Approval.run_id == run_id).order_by(Approval.job)).all()


def late_approvals(session: Session, now: datetime) -> Sequence[Approval]:
    """Approvals that nobody gave in time, locked for this transaction."""
    late = select(Approval).where(Approval.state == ApprovalState.WAITING, Approval.until <= now)
    return session.scalars(late.with_for_update(skip_locked=True)).all()


def approvals_waiting(session: Session) -> Sequence[tuple[str, int, str, datetime]]:
    """Project, run, job and end of each approval that somebody may give now."""
    query = select(Project.name, Run.number, Approval.job, Approval.until)
    query = query.join(Run, Run.id == Approval.run_id).join(Project, Project.id == Run.project_id)
    return session.execute(
        query.where(Approval.state == ApprovalState.WAITING).order_by(Approval.until)
    ).all()  # fmt: skip


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
        .where(Cell.state.in_(TRUSTED))
        .order_by(Cell.id)
    )
    return {cell.content or "": (cell, attempt, number) for cell, attempt, number in rows}


def newest_run_of_pull(session: Session, project_id: int, pull: int) -> Run | None:
    query = select(Run).where(Run.project_id == project_id, Run.pull_request == pull)
    return session.scalars(query.order_by(Run.number.desc()).limit(1)).first()


def seconds_of_pull(session: Session, project_id: int, pull: int) -> float:
    """How long runners were busy with a pull request, up to now."""
    ended = func.coalesce(Attempt.ended_at, func.now())
    took = func.extract("epoch", ended - func.coalesce(Attempt.started_at, Attempt.created_at))
    query = select(func.coalesce(func.sum(took), 0.0)).join(Cell, Cell.id == Attempt.cell_id)
    query = query.join(Run, Run.id == Cell.run_id).where(Run.project_id == project_id, Run.pull_request == pull)
    return float(session.scalar(query) or 0.0)


def open_runs_of_strangers(session: Session) -> Sequence[tuple[Run, int]]:
    """Runs that go on of strangers' pull requests whose minutes are bounded, with the minutes."""
    query = select(Run, Project.stranger_minutes).join(Project, Project.id == Run.project_id)
    query = query.join(
        PullRequest, and_(PullRequest.project_id == Run.project_id, PullRequest.number == Run.pull_request)
    )
    query = query.where(Run.state.in_(OPEN), PullRequest.stranger, Project.stranger_minutes.is_not(None))
    return session.execute(query).all()  # type: ignore[return-value]


def has_run_of_pull(session: Session, project_id: int, pull: int, commit: str) -> bool:
    """Whether a pull request was run at a commit of its branch."""
    query = select(Run.id).where(Run.project_id == project_id, Run.pull_request == pull, Run.commit == commit)
    return session.scalar(query.limit(1)) is not None


def sizes_of_project(session: Session, project_id: int) -> tuple[int, int, int, int, int]:
    """Runs, attempts, attempts with results, bytes of logs and of artifacts that are kept about a project."""
    of = select(Attempt.id).join(Cell, Cell.id == Attempt.cell_id).join(Run, Run.id == Cell.run_id)
    mine = of.where(Run.project_id == project_id).subquery()
    runs = session.scalar(select(func.count()).select_from(Run).where(Run.project_id == project_id)) or 0
    attempts, logs = session.execute(
        select(func.count(), func.coalesce(func.sum(Attempt.log_size), 0)).where(Attempt.id.in_(select(mine.c.id)))
    ).one()
    with_results = session.scalar(
        select(func.count(func.distinct(Segment.attempt_id))).where(Segment.attempt_id.in_(select(mine.c.id)))
    )
    artifacts = session.scalar(
        select(func.coalesce(func.sum(Report.size), 0)).where(Report.attempt_id.in_(select(mine.c.id)))
    )
    return runs, attempts, with_results or 0, int(logs), int(artifacts or 0)


def runs_of_pulls(session: Session, project_id: int, pulls: Sequence[int], most: int) -> dict[int, list[Run]]:
    """By pull request, its newest runs, the newest first."""
    place = func.row_number().over(partition_by=Run.pull_request, order_by=Run.number.desc())
    query = select(Run.id, place.label("place")).where(Run.project_id == project_id, Run.pull_request.in_(pulls))
    ranked = query.where(Run.event == EventKind.PULL_REQUEST).subquery()
    rows = session.scalars(
        select(Run).join(ranked, ranked.c.id == Run.id).where(ranked.c.place <= most).order_by(Run.number.desc())
    )
    found: dict[int, list[Run]] = {}
    for run in rows:
        found.setdefault(run.pull_request or 0, []).append(run)
    return found


def cells_of_runs(session: Session, runs: Collection[int]) -> Sequence[Cell]:
    """The cells of several runs, in the plans' order."""
    return session.scalars(select(Cell).where(Cell.run_id.in_(runs)).order_by(Cell.run_id, Cell.position)).all()
