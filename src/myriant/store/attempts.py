"""Questions about attempts, their steps, records and reports."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from sqlalchemy import Select, func, or_, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.states import TRUSTED, Content, Place, State
from myriant.store.raw import raw
from myriant.store.records import as_json
from myriant.store.runs import RUNNING
from myriant.store.tables import Attempt, AttemptRecord, Cell, Control, Project, Report, Run, Step


def voids_of(session: Session, cell_id: int) -> int:
    """How many attempts of a cell gave no result."""
    query = select(func.count()).where(Attempt.cell_id == cell_id, Attempt.state == State.VOID, Attempt.number > 0)
    return session.scalar(query) or 0


def highest_attempt(session: Session, cell_id: int) -> int:
    return max(0, session.scalar(select(func.max(Attempt.number)).where(Attempt.cell_id == cell_id)) or 0)


def lowest_attempt(session: Session, cell_id: int) -> int:
    """The number of a cell's newest control run, which are negative; 0 without any."""
    return min(0, session.scalar(select(func.min(Attempt.number)).where(Attempt.cell_id == cell_id)) or 0)


def attempts_of(session: Session, cells: Sequence[Cell]) -> dict[int, Attempt]:
    """The newest attempt of each cell that has one, by the attempt's id."""
    ids = [c.attempt_id for c in cells if c.attempt_id is not None]
    return {a.id: a for a in session.scalars(select(Attempt).where(Attempt.id.in_(ids)))} if ids else {}


def every_attempt_of(session: Session, cell_id: int) -> Sequence[tuple[int, int, State, Place | None]]:
    """Id, number, state and place (of a control run) of every attempt of a cell, control runs last."""
    query = select(Attempt.id, Attempt.number, Attempt.state, Control.place)
    query = query.outerjoin(Control, Control.attempt_id == Attempt.id).where(Attempt.cell_id == cell_id)
    return session.execute(query.order_by((Attempt.number < 0), func.abs(Attempt.number))).all()


def reruns_of(session: Session, cells: Sequence[Cell]) -> int:
    """Attempts with a result beside the newest ones: those that a person had made again."""
    query = select(func.count()).where(
        Attempt.cell_id.in_([c.id for c in cells]),
        Attempt.state.in_(TRUSTED),
        Attempt.number > 0,
        Attempt.id.not_in([c.attempt_id or 0 for c in cells]),
    )
    return session.scalar(query) or 0


def expired_leases(session: Session) -> Sequence[Attempt]:
    return session.scalars(
        select(Attempt)
        .where(Attempt.state == RUNNING, Attempt.lease_until < func.now())
        .with_for_update(skip_locked=True)
    ).all()


def open_leases_of(session: Session, runner_id: int) -> Sequence[Attempt]:
    """Running attempts of a runner, locked for this transaction."""
    query = select(Attempt).where(Attempt.state == RUNNING, Attempt.runner_id == runner_id)
    return session.scalars(query.order_by(Attempt.id).with_for_update()).all()


def leased(session: Session, attempts: Collection[int]) -> Sequence[Attempt]:
    """These attempts as they are now, locked for this transaction in the order of their ids."""
    query = select(Attempt).where(Attempt.id.in_(attempts)).order_by(Attempt.id).with_for_update()
    return session.scalars(query, execution_options={"populate_existing": True}).all()


def lease_of(session: Session, attempt_id: int) -> tuple[str, State, str] | None:
    """The digest of an attempt's token, its state and the reason of that."""
    query = "SELECT lease_digest, state, reason FROM attempt WHERE id = %s"
    row = raw(session).execute(query, (attempt_id,)).fetchone()
    return (row[0], State(row[1]), row[2]) if row is not None else None


def run_id_of_attempt(session: Session, attempt_id: int) -> int | None:
    query = select(Cell.run_id).join(Attempt, Attempt.cell_id == Cell.id).where(Attempt.id == attempt_id)
    return session.scalar(query)


def run_number_of_attempt(session: Session, attempt_id: int) -> int | None:
    query = select(Run.number).join(Cell, Cell.run_id == Run.id).join(Attempt, Attempt.cell_id == Cell.id)
    return session.scalar(query.where(Attempt.id == attempt_id))


def workspaces_of(session: Session, attempts: Sequence[int]) -> dict[int, tuple[str, ...]]:
    """Where each attempt's workspace lay, as its step saw it and as its runner did."""
    workspace = as_json(Attempt.finish)["workspace"].astext
    rows = session.execute(select(Attempt.id, workspace).where(Attempt.id.in_(attempts)))
    return {attempt: tuple(filter(None, ("/workspace", folder))) for attempt, folder in rows}


class Told(NamedTuple):
    """Where an attempt stands, for naming it."""

    id: int
    run: int
    job: str
    key: str
    number: int
    runner: str
    project: str


def attempt_told(session: Session, attempt_id: int) -> Told | None:
    row = session.execute(_told().where(Attempt.id == attempt_id)).first()
    return Told(*row) if row is not None else None


def passing_before(session: Session, run: Run, cell: Cell, attempt_id: int) -> Told | None:
    """As `attempt_told`, of the cell's newest passing attempt before one, which has told of its machine."""
    telling = select(AttemptRecord.attempt_id).where(AttemptRecord.kind == "machine")
    query = _told().where(Run.project_id == run.project_id, Cell.job == cell.job, Cell.key == cell.key)
    query = query.where(Attempt.state == State.PASSED, Attempt.id < attempt_id, Attempt.id.in_(telling))
    row = session.execute(query.order_by(Attempt.id.desc()).limit(1)).first()
    return Told(*row) if row is not None else None


def _told() -> Select[*tuple[Any, ...]]:
    return (
        select(Attempt.id, Run.number, Cell.job, Cell.key, Attempt.number, Attempt.runner, Project.name)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .join(Project, Project.id == Run.project_id)
    )


def own_attempts_of(session: Session, cells: Sequence[Cell]) -> Sequence[Attempt]:
    """Every attempt of these cells but control runs, in order."""
    query = select(Attempt).where(Attempt.cell_id.in_([c.id for c in cells]), Attempt.number > 0)
    return session.scalars(query.order_by(Attempt.id)).all()


# --- steps and records ----------------------------------------------------------------------------


def steps_of(session: Session, attempt_id: int) -> Sequence[Step]:
    return session.scalars(select(Step).where(Step.attempt_id == attempt_id).order_by(Step.position)).all()


def steps_of_attempts(session: Session, attempts: Sequence[int]) -> dict[int, list[Step]]:
    """By attempt, its steps in order."""
    found: dict[int, list[Step]] = {}
    for step in session.scalars(select(Step).where(Step.attempt_id.in_(attempts)).order_by(Step.position)):
        found.setdefault(step.attempt_id, []).append(step)
    return found


def keep_steps(session: Session, attempt_id: int, steps: Sequence[Mapping[str, Any]]) -> None:
    """What a runner says of steps, each of another position; the newest word counts."""
    if steps:
        statement = insert(Step).values([{"attempt_id": attempt_id, **step} for step in steps])
        fresh = {column: statement.excluded[column] for column in steps[0]}
        session.execute(statement.on_conflict_do_update(index_elements=["attempt_id", "position"], set_=fresh))


def keep_records(session: Session, attempt_id: int, records: Mapping[str, Any]) -> None:
    """What a runner tells of an attempt beside its steps, by kind; the newest word counts."""
    if records:
        rows = [{"attempt_id": attempt_id, "kind": kind, "content": content} for kind, content in records.items()]
        statement = insert(AttemptRecord).values(rows)
        fresh = {"content": statement.excluded.content}
        session.execute(statement.on_conflict_do_update(index_elements=["attempt_id", "kind"], set_=fresh))


def records_of(session: Session, attempts: Sequence[int], kinds: Sequence[str] = ()) -> dict[tuple[int, str], Any]:
    """What runners told of attempts beside their steps, by attempt and kind."""
    query = select(AttemptRecord).where(AttemptRecord.attempt_id.in_(attempts))
    if kinds:
        query = query.where(AttemptRecord.kind.in_(kinds))
    return {(r.attempt_id, r.kind): r.content for r in session.scalars(query)}


# --- reports --------------------------------------------------------------------------------------


def reports_of(session: Session, attempt_id: int) -> Sequence[Report]:
    return session.scalars(select(Report).where(Report.attempt_id == attempt_id).order_by(Report.number)).all()


def keep_reports(session: Session, rows: Sequence[Mapping[str, Any]]) -> None:
    """Keep files that an attempt delivered; the same number again takes the place of what it was."""
    if rows:
        statement = insert(Report).values([dict(row) for row in rows])
        fresh = {c: statement.excluded[c] for c in rows[0] if c not in ("attempt_id", "number")}
        session.execute(statement.on_conflict_do_update(index_elements=["attempt_id", "number"], set_=fresh))


def keep_counts(session: Session, reports: Sequence[Report]) -> None:
    """What reading these reports has told."""
    columns = ("id", "problems", "total", "passed", "failed", "errored", "skipped", "seconds")
    if reports:
        session.execute(update(Report), [{c: getattr(r, c) for c in columns} for r in reports])


def kinds_reported(session: Session, attempts: Sequence[int]) -> Sequence[tuple[str, int, float, int]]:
    """Kind, number of tests, seconds and attempt of each report of tests."""
    query = select(Report.kind, Report.total, Report.seconds, Report.attempt_id)
    query = query.where(Report.attempt_id.in_(attempts), Report.content == Content.TESTS)
    return session.execute(query).all()


def take_outlived_reports(session: Session, now: datetime, most: int) -> Sequence[Report]:
    """Remove files whose end of keeping has come; they are given back for their blobs."""
    gone = session.scalars(
        select(Report).where(Report.until <= now).limit(most).with_for_update(skip_locked=True)
    ).all()
    for report in gone:
        session.delete(report)
    return gone


def handed_over(session: Session, run_id: int, jobs: Collection[str]) -> Sequence[tuple[int, str, str, str, str]]:
    """Report, job, cell key, path and digest of each file that these jobs of a run have handed over."""
    query = select(Report.id, Cell.job, Cell.key, Report.path, Report.digest).join(
        Cell, Cell.attempt_id == Report.attempt_id
    )
    query = query.where(Cell.run_id == run_id, Cell.job.in_(jobs), Report.content == Content.HAND_OVER)
    return session.execute(query.order_by(Report.id)).all()


def attempts_that_handed_over_what_went(session: Session, run_id: int) -> set[int]:
    """Attempts shown by a run that have handed over files which are kept no longer."""
    query = select(Report.attempt_id).join(Cell, Cell.attempt_id == Report.attempt_id)
    query = query.where(Cell.run_id == run_id, Report.content == Content.HAND_OVER, Report.blob == "")
    return set(session.scalars(query))


def attachments_of(session: Session, attempt_id: int) -> Sequence[tuple[str, int]]:
    query = select(Report.path, Report.id).where(Report.attempt_id == attempt_id)
    return session.execute(query.where(Report.content == Content.ATTACHMENT)).all()


def attachments_before(session: Session, run: Run, job: str, key: str) -> dict[str, int]:
    """By path, the attachment of the newest earlier run whose cell passed."""
    rows = session.execute(
        select(Report.path, Report.id)
        .join(Attempt, Attempt.id == Report.attempt_id)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == run.project_id, Run.number < run.number, Report.content == Content.ATTACHMENT)
        .where(Cell.job == job, Cell.key == key, Attempt.state == State.PASSED)
        .order_by(Run.number)
    )
    return {path: report for path, report in rows}  # noqa: C416  # a result has keys(): dict() would take it for a mapping


def reports_to_read_again(session: Session, project_id: int, contents: Sequence[Content]) -> Sequence[Any]:
    """Every kept report of a project: Report, its attempt's finish, job, key, run number."""
    return session.execute(
        select(Report, Attempt.finish, Cell.job, Cell.key, Run.number)
        .join(Attempt, Attempt.id == Report.attempt_id)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .where(Run.project_id == project_id, Report.content.in_(contents), Report.blob != "")
        .order_by(Run.number, Report.id)
    ).all()


def busy_since(session: Session, since: datetime, floor: datetime) -> Sequence[Any]:
    """Attempts that ran after `since`: Attempt, job, key, run number, project; those begun before `floor` left out."""
    return session.execute(
        select(Attempt, Cell.job, Cell.key, Run.number, Project.name)
        .join(Cell, Cell.id == Attempt.cell_id)
        .join(Run, Run.id == Cell.run_id)
        .join(Project, Project.id == Run.project_id)
        .where(Attempt.runner_id.is_not(None), or_(Attempt.ended_at.is_(None), Attempt.ended_at > since))
        .where(Attempt.created_at > floor)
        .order_by(Attempt.created_at)
        .limit(5000)
    ).all()


def attempts_with(session: Session, attempts: Sequence[int], content: Content) -> set[int]:
    """Which of these attempts delivered a file of some content."""
    query = select(Report.attempt_id).where(Report.attempt_id.in_(attempts), Report.content == content)
    return set(session.scalars(query.distinct()))
