"""Intake: something happened to a repository; what came of it is a run, at once.

A hook's message is only a bell with a proposal: the branch's commit that was last seen decides what
is new, so a message that comes twice, late or never does no harm (`look` finds what was missed).
"""

from __future__ import annotations

import logging
from dataclasses import dataclass

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.repos.git import GitError, is_object_id
from myriant.repos.mirror import heads
from myriant.store.changes import tell
from myriant.store.queue import defer
from myriant.store.runs import deepest_on, next_run_number, project_named
from myriant.store.tables import Project, Ref, Run

_log = logging.getLogger(__name__)
_BRANCH = "refs/heads/"


@dataclass(frozen=True, slots=True)
class Moved:
    """A branch that moved, as a hook reports it; `after` is all zeros when it was deleted."""

    ref: str
    before: str
    after: str


def hear(site: Site, project_name: str, moved: list[Moved]) -> list[int]:
    """Take a hook's message; the numbers of the runs that it made."""
    numbers = []
    trusted = True
    with site.store.transaction() as session:
        project = _project(session, project_name)
        for move in moved:
            if not move.ref.startswith(_BRANCH) or not is_object_id(move.after):
                continue
            if not _is_next(session, project, move):
                trusted = False
            elif (number := _take(session, project, move.ref, move.after)) is not None:
                numbers.append(number)
    return numbers if trusted else numbers + look(site, project_name)


def look(site: Site, project_name: str) -> list[int]:
    """Compare the repository's branches with what was last seen; the numbers of the runs that it made.

    A project's first look only remembers where its branches are.
    """
    with site.store.transaction() as session:
        project = _project(session, project_name)
        address = project.address
    try:
        found = heads(address)
    except GitError as error:
        with site.store.transaction() as session:
            _seen(session, project_name, trouble=str(error))
        _log.warning("cannot read %s: %s", project_name, error)
        return []
    numbers = []
    with site.store.transaction() as session:
        project = _seen(session, project_name, trouble=None)
        known = {ref.name for ref in session.scalars(select(Ref).where(Ref.project_id == project.id))}
        for name, commit in sorted(found.items()):
            if (number := _take(session, project, name, commit)) is not None:
                numbers.append(number)
        gone = known - set(found)
        if gone:
            session.execute(delete(Ref).where(Ref.project_id == project.id, Ref.name.in_(gone)))
    return numbers


def remember_branches(site: Site, project_name: str) -> dict[str, str]:
    """Note where the branches are without starting anything. Raises GitError when they cannot be read."""
    with site.store.transaction() as session:
        project = _project(session, project_name)
        found = heads(project.address)
        for name, commit in found.items():
            session.merge(Ref(project_id=project.id, name=name, commit=commit))
        project.looked_at = func.now()
    return found


def _project(session: Session, name: str) -> Project:
    project = project_named(session, name)
    if project is None:
        raise NotFound(f"there is no project {name!r}", "myriant project list shows the projects")
    return project


def _seen(session: Session, name: str, trouble: str | None) -> Project:
    project = _project(session, name)
    if (project.trouble is None) != (trouble is None):
        tell(session, "project", name)
    project.trouble = trouble
    project.looked_at = func.now()
    session.flush()
    return project


def _is_next(session: Session, project: Project, move: Moved) -> bool:
    known = session.get(Ref, (project.id, move.ref), with_for_update=True)
    return (known is None and not move.before.strip("0")) or (known is not None and known.commit == move.before)


def _take(session: Session, project: Project, name: str, commit: str) -> int | None:
    """Record that a branch is at a commit; the number of the run made when that is new."""
    ref = session.get(Ref, (project.id, name), with_for_update=True)
    if not commit.strip("0"):
        if ref is not None:
            session.delete(ref)
        return None
    if ref is not None and ref.commit == commit:
        return None
    before = ref.commit if ref is not None else None
    session.merge(Ref(project_id=project.id, name=name, commit=commit))
    number = next_run_number(session, project.id)
    branch = name.removeprefix(_BRANCH)
    run = Run(
        project_id=project.id,
        number=number,
        event="push",
        purpose="push",
        branch=branch,
        depth=deepest_on(session, project.id, branch) + 1,  # until the commit is read
        commit=commit,
        before=before,
        state="waiting",
        verdict="undecided",
        reason="reading the plan",
    )
    session.add(run)
    session.flush()
    defer(session, "plan", lock=f"project-{project.id}", priority=10, run_id=run.id)
    tell(session, "run", project.name, number)
    return number
