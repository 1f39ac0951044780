"""Questions about projects, their branches and tags, pull requests and schedules."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime

from sqlalchemy import delete, func, or_, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.gate.contexts import parse_context
from myriant.core.states import EventKind, PullState
from myriant.store.tables import Project, PullRequest, Ref, Schedule, SeenEvent, Untested

BRANCH = "refs/heads/"
TAG = "refs/tags/"


def projects_beside(session: Session, project: Project) -> Sequence[Project]:
    """Other projects that watch the same repository, by name."""
    plain = func.regexp_replace(Project.address, "(/|[.]git)+$", "")
    same = func.regexp_replace(project.address, "(/|[.]git)+$", "")
    query = select(Project).where(plain == same, Project.id != project.id)
    return session.scalars(query.order_by(Project.name)).all()


def project_named(session: Session, name: str) -> Project | None:
    return session.scalar(select(Project).where(Project.name == name))


def project_with_badge_key(session: Session, key: str) -> Project | None:
    return session.scalar(select(Project).where(Project.badge_key == key))


def all_projects(session: Session) -> Sequence[Project]:
    return session.scalars(select(Project).order_by(Project.name)).all()


def project_names(session: Session, *, due_after: float | None = None) -> list[str]:
    """Names of all projects; with `due_after`, those not looked at for so many seconds."""
    query = select(Project.name).order_by(Project.name)
    if due_after is not None:
        due = func.now() - func.make_interval(0, 0, 0, 0, 0, 0, due_after)
        query = query.where(or_(Project.looked_at.is_(None), Project.looked_at < due))
    return list(session.scalars(query))


def remove_project(session: Session, name: str) -> None:
    session.execute(delete(Project).where(Project.name == name))


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


def ref_of(branch: str) -> str:
    """The full name of a branch, or of a ref that has its full name already."""
    return branch if branch.startswith("refs/") else BRANCH + branch


def branch_at(session: Session, project_id: int, branch: str) -> str | None:
    """The commit at which a branch, or a ref named in full, was last seen."""
    ref = session.get(Ref, (project_id, ref_of(branch)))
    return ref.commit if ref is not None else None


def branches_of(session: Session, project_id: int) -> dict[str, str]:
    """Every branch with the commit at which it was last seen."""
    rows = session.scalars(select(Ref).where(Ref.project_id == project_id, Ref.name.startswith(BRANCH)))
    return {r.name.removeprefix(BRANCH): r.commit for r in rows}


def commits_of_refs(session: Session, project_id: int) -> dict[str, str]:
    """Where each branch and tag was last seen."""
    rows = session.execute(select(Ref.name, Ref.commit).where(Ref.project_id == project_id))
    return dict(rows.all())


def forget_refs(session: Session, project_id: int, names: Collection[str]) -> None:
    if names:
        session.execute(delete(Ref).where(Ref.project_id == project_id, Ref.name.in_(names)))


def open_pulls_from(session: Session, project_id: int, branch: str) -> Sequence[PullRequest]:
    """Open pull requests that ask for a branch to be merged."""
    return session.scalars(
        select(PullRequest).where(
            PullRequest.project_id == project_id, PullRequest.state == PullState.OPEN, PullRequest.source == branch
        )
    ).all()


def open_pulls_into(session: Session, project_id: int, branch: str) -> Sequence[PullRequest]:
    """Open pull requests that ask to be merged into a branch, the oldest first."""
    query = select(PullRequest).where(PullRequest.project_id == project_id, PullRequest.target == branch)
    return session.scalars(query.where(PullRequest.state == PullState.OPEN).order_by(PullRequest.number)).all()


def targets_of_pulls(session: Session, project_id: int) -> list[str]:
    """The branches that open pull requests go into."""
    query = select(PullRequest.target).where(PullRequest.project_id == project_id, PullRequest.state == PullState.OPEN)
    return sorted(set(session.scalars(query)))


def projects_to_refresh(session: Session, now: datetime) -> Sequence[Project]:
    """Projects whose pull requests are to be tested with their moved targets now, locked."""
    query = select(Project).where(Project.pull_refresh_at <= now)
    return session.scalars(query.with_for_update(skip_locked=True)).all()


def projects_to_drill(session: Session, now: datetime) -> Sequence[Project]:
    """Projects whose gate is to be tried now, locked."""
    query = select(Project).where(Project.drill_at <= now)
    return session.scalars(query.with_for_update(skip_locked=True)).all()


def open_pulls_at(session: Session, project_id: int, sources: Collection[str]) -> Sequence[PullRequest]:
    """Open pull requests whose own ref is one of these, locked."""
    if not sources:
        return []
    query = select(PullRequest).where(PullRequest.project_id == project_id, PullRequest.source.in_(sources))
    query = query.where(PullRequest.state == PullState.OPEN).order_by(PullRequest.number)
    return session.scalars(query.with_for_update()).all()


def newest_pulls(session: Session, project_id: int, most: int) -> Sequence[PullRequest]:
    query = select(PullRequest).where(PullRequest.project_id == project_id)
    return session.scalars(query.order_by(PullRequest.number.desc()).limit(most)).all()


def strangers_waiting(session: Session) -> list[tuple[str, int, str, str, str]]:
    """Open pull requests of strangers at heads that no maintainer has let run: project, number, title, author, head."""
    query = (
        select(Project.name, PullRequest.number, PullRequest.title, PullRequest.author, Ref.commit)
        .join(Project, Project.id == PullRequest.project_id)
        .join(
            Ref,
            (Ref.project_id == PullRequest.project_id)
            & Ref.name.in_([PullRequest.source, BRANCH + PullRequest.source]),
        )
        .where(PullRequest.stranger, PullRequest.state == PullState.OPEN, PullRequest.allowed != Ref.commit)
        .order_by(Project.name, PullRequest.number)
    )
    return [(p, n, t, a, head) for p, n, t, a, head in session.execute(query)]


def living_contexts(session: Session, asked: Collection[tuple[int, str]]) -> set[tuple[int, str]]:
    """Those of the contexts, each with its project, that go on: their branch is there, their pull request is open.

    Tags, schedules and what is no context never end.
    """
    told = {pair: parse_context(pair[1]) for pair in asked}
    branches = {(p, BRANCH + c.name): (p, text) for (p, text), c in told.items() if c and c.kind is EventKind.PUSH}
    pulls = {
        (p, int(c.name)): (p, text)
        for (p, text), c in told.items()
        if c and c.kind is EventKind.PULL_REQUEST and c.name.isdigit()
    }
    going_on = {pair for pair, c in told.items() if c is None or c.kind not in (EventKind.PUSH, EventKind.PULL_REQUEST)}
    if branches:
        query = select(Ref.project_id, Ref.name).where(Ref.project_id.in_({p for p, _ in branches}))
        there = session.execute(query.where(Ref.name.in_({name for _, name in branches})))
        going_on |= {branches[p, name] for p, name in there if (p, name) in branches}
    if pulls:
        asking = select(PullRequest.project_id, PullRequest.number).where(PullRequest.state == PullState.OPEN)
        asking = asking.where(PullRequest.project_id.in_({p for p, _ in pulls}))
        opened = session.execute(asking.where(PullRequest.number.in_({number for _, number in pulls})))
        going_on |= {pulls[p, number] for p, number in opened if (p, number) in pulls}
    return going_on


def due_schedules(session: Session, now: datetime) -> Sequence[Schedule]:
    """Schedules whose time has come, locked for this transaction."""
    return session.scalars(select(Schedule).where(Schedule.next_at <= now).with_for_update(skip_locked=True)).all()


def schedules_of(session: Session, project_id: int) -> Sequence[Schedule]:
    return session.scalars(select(Schedule).where(Schedule.project_id == project_id).order_by(Schedule.next_at)).all()


def forget_seen_events(session: Session, before: datetime) -> None:
    session.execute(delete(SeenEvent).where(SeenEvent.at < before))


def remember_untested(session: Session, rows: Sequence[dict[str, object]]) -> None:
    """Keep commits that have no run of their own, with the reason; those known already stay as they are."""
    if rows:
        session.execute(insert(Untested).on_conflict_do_nothing(), rows)


def reasons_untested(session: Session, commit: str) -> Sequence[tuple[str, str]]:
    """Project and reason of a commit without a run of its own."""
    query = select(Project.name, Untested.reason).join(Untested, Untested.project_id == Project.id)
    return session.execute(query.where(Untested.commit == commit)).all()


_MOVES = 0x4D594D56  # names the lock: moves of a project's branches


def one_at_a_time(session: Session, project_id: int) -> None:
    """Wait until nobody else takes in what moved in this repository: a hook and a look may come together."""
    session.execute(text("SELECT pg_advisory_xact_lock(:of, :project)"), {"of": _MOVES, "project": project_id})
