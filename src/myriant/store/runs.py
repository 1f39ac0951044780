"""Questions about projects, runs and cells."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime

from sqlalchemy import ColumnElement, and_, case, func, literal, literal_column, select, tuple_
from sqlalchemy.orm import Session, aliased

from myriant.core.digits import number_of
from myriant.core.states import DECIDED, OPEN, ApprovalState, EventKind, State, Verdict
from myriant.store.projects import projects_beside
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
    session: Session, run: Run, numbers: Collection[int], job: str, key: str, most: int
) -> list[tuple[Run, int]]:
    """Of the runs of these numbers on a run's branch the deepest first, each with its attempt of a cell."""
    query = select(Run, Cell.attempt_id).join(Cell, Cell.run_id == Run.id)
    query = query.where(Run.project_id == run.project_id, Run.number.in_(numbers), Cell.job == job, Cell.key == key)
    query = query.where(Run.branch == run.branch, Cell.attempt_id.is_not(None))
    rows = session.execute(query.order_by(Run.depth.desc(), Run.number.desc()).limit(most))
    return [(row[0], row[1] or 0) for row in rows]


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
    if ref.startswith(PULL) and (number := number_of(ref.removeprefix(PULL))) is not None:
        return Run.pull_request == number
    if ref.startswith(BATCH) and (number := number_of(ref.removeprefix(BATCH))) is not None:
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


def runs_waiting_for_advisory(session: Session) -> Sequence[Run]:
    """Undecided runs of whose cells before the verdict only advisory ones are left, which wait."""
    mine = (Cell.run_id == Run.id) & ~Cell.gated & Cell.selected
    left = select(Cell.id).where(mine, Cell.state.in_(OPEN))
    others = left.where(~Cell.advisory | (Cell.state != State.WAITING))
    query = select(Run).where(Run.verdict == Verdict.UNDECIDED, Run.ended_at.is_(None))
    return session.scalars(query.where(left.exists(), ~others.exists()).limit(500)).all()


def any_in_context(session: Session, run: Run, numbers: Collection[int]) -> bool:
    """Whether one of the runs of these numbers is of a run's own context."""
    query = select(Run.id).where(Run.project_id == run.project_id, Run.number.in_(numbers), Run.context == run.context)
    return session.scalar(query.limit(1)) is not None if numbers else False


def newest_run_of(session: Session, project_id: int, commit: str) -> Run | None:
    """The newest run of a commit in a project that is no batch's."""
    query = select(Run).where(Run.project_id == project_id, Run.commit == commit, Run.batch_id.is_(None))
    return session.scalars(query.order_by(Run.number.desc()).limit(1)).first()


def runs_beside_project(session: Session, project: Project, most: int) -> Sequence[Run]:
    """In other projects that watch its repository, the newest run of each commit that a project tested too."""
    commits = select(Run.commit).where(Run.project_id == project.id)
    others = [p.id for p in projects_beside(session, project)]
    return _newest_of_each(session, Run.project_id.in_(others) & Run.commit.in_(commits), most) if others else ()


def runs_with_notes(session: Session, project_id: int, most: int) -> Sequence[Run]:
    """Of each of the newest commits of a project whose note was written, the newest run."""
    return _newest_of_each(session, (Run.project_id == project_id) & Run.noted_at.is_not(None), most)


def _newest_of_each(session: Session, which: ColumnElement[bool], most: int) -> Sequence[Run]:
    newest = select(func.max(Run.id)).where(which, Run.batch_id.is_(None)).group_by(Run.project_id, Run.commit)
    newest = newest.order_by(func.max(Run.id).desc()).limit(most)
    return session.scalars(select(Run).where(Run.id.in_(newest))).all()


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


def older_waiting_runs(session: Session, run: Run) -> Sequence[Run]:
    """Runs in the same context that came before and have not ended."""
    return session.scalars(
        select(Run).where(
            Run.project_id == run.project_id,
            Run.context == run.context,
            Run.number < run.number,
            Run.verdict.in_((Verdict.UNDECIDED, Verdict.HELD)),
            Run.state.in_(OPEN),
            Run.ended_at.is_(None),
        )
    ).all()


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
    return session.execute(query.where(Approval.state == ApprovalState.WAITING).order_by(Approval.until)).all()


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
