"""Intake: something happened to a repository; what came of it is a run, at once.

A hook's message is only a bell with a proposal: the repository says whether it is so, and the commit at which a branch
or tag was last seen what is new. So a message that is forged, comes twice, late or never does no harm (`look` finds
what was missed).
"""

from __future__ import annotations

import logging
from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.gate.contexts import Context, push_to
from myriant.core.states import EventKind, PullState
from myriant.flow.intake.refreshing import AT_ONCE, refresh_into
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.state.pulls import become, close_from
from myriant.flow.state.runs import weigh_anew
from myriant.flow.state.starting import start_pull_request, start_run
from myriant.repos import answers
from myriant.repos.git import GitError, is_object_id
from myriant.repos.mirror import Mirror
from myriant.repos.remote import Remote, heads, pull_number
from myriant.store.changes import tell
from myriant.store.projects import (
    BRANCH,
    TAG,
    commits_of_refs,
    forget_refs,
    one_at_a_time,
    open_pulls_from,
)
from myriant.store.records import RunWish
from myriant.store.runs import newest_run_in
from myriant.store.tables import Project, PullRequest, Ref

_log = logging.getLogger(__name__)

NOWHERE = "0"  # as often as an object id has digits
MOST_PASSED = 200  # commits that a branch has passed since a bell was rung


@dataclass(frozen=True, slots=True)
class Moved:
    """A branch or tag that moved, as a hook reports it; `after` is all zeros when it was deleted."""

    ref: str
    before: str
    after: str


def hear(site: Site, project_name: str, moved: list[Moved]) -> list[int]:
    """Take a hook's message; the numbers of the runs that it made, or that a look just before it made.

    What it says is asked of the repository: a move that is not there is none. Raises NotFound.
    """
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        if project.paused:
            return []
        pulls = project.pull_refs
        # a tag may be an object of its own, and a pull request may be new: look
        looks = any(m.ref.startswith(TAG) or (pulls and pull_number(pulls, m.ref) is not None) for m in moved)
        wanted = [m for m in moved if m.ref.startswith(BRANCH) and is_object_id(m.after)]
        remote, mirror = site.remote(project), site.mirror(project)
    true = _true_moves(remote, mirror, wanted)
    numbers = []
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        one_at_a_time(session, project.id)
        for move in true:
            if made := _made_already(session, project, move):
                numbers += made
            elif _is_next(session, project, move):
                numbers += _take(session, project, move.ref, move.after)
            else:
                looks = True
    return numbers + look(site, project_name) if looks or len(true) < len(wanted) else numbers


def _true_moves(remote: Remote, mirror: Mirror, moved: Sequence[Moved]) -> list[Moved]:
    """The moves that the repository confirms: a branch is there now, or was there before it moved on."""
    if not moved:
        return []
    try:
        there = heads(remote, only=sorted({m.ref for m in moved}))
        past: dict[str, list[str]] = {}  # the nearest first
        for ref in {m.ref for m in moved if m.ref in there and m.after.strip("0") and m.after != there[m.ref]}:
            if not mirror.has(there[ref]):
                mirror.fetch()
            past[ref] = mirror.first_parents(there[ref], MOST_PASSED)
    except GitError:
        return []  # a look says what is wrong with the repository
    return [m for m in moved if there.get(m.ref, NOWHERE * len(m.after)) == m.after or _passed(m, past.get(m.ref, []))]


def _passed(move: Moved, past: list[str]) -> bool:
    """Whether a branch that has moved on went that way, forward."""
    if move.after not in past:
        return False
    return not move.before.strip("0") or move.before in past[past.index(move.after) + 1 :]


def look(site: Site, project_name: str) -> list[int]:
    """Compare the repository's branches and tags with what was last seen; the numbers of the runs that it made.

    A project's first look only remembers where they are.
    """
    while (made := _look_once(site, project_name)) is None:
        pass
    return made


def _look_once(site: Site, project_name: str) -> list[int] | None:
    """None when a hook was heard meanwhile, so that what was read may be older than what is known."""
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        remote = site.remote(project)
        before, pulls = commits_of_refs(session, project.id), project.pull_refs
    try:
        found = heads(remote, pulls)
    except GitError as error:
        with site.store.transaction() as session:
            is_news = the_project(session, project_name).trouble != str(error)
            _seen(session, project_name, trouble=str(error))
        if is_news:  # not again at each look, for ever
            _log.warning("cannot read %s: %s", project_name, error)
        return []
    numbers = []
    with site.store.transaction() as session:
        one_at_a_time(session, the_project(session, project_name).id)
        project = _seen(session, project_name, trouble=None)
        known = commits_of_refs(session, project.id)
        if known != before:
            return None
        if project.paused:
            return []  # what moved meanwhile is found when it is resumed
        for name, commit in sorted(found.items()):
            numbers += _take(session, project, name, commit)
        gone = set(known) - set(found)
        over = [Context(EventKind.PULL_REQUEST, str(n)) for n in close_from(session, project.id, gone)]
        forget_refs(session, project.id, gone)
        over += [push_to(name.removeprefix(BRANCH)) for name in gone if name.startswith(BRANCH)]
        weigh_anew(session, project.id, over)
    return numbers


def remember_branches(site: Site, project_name: str) -> dict[str, str]:
    """Note where branches and tags are without starting anything. Raises GitError when they cannot be read."""
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        found = heads(site.remote(project), project.pull_refs)
        one_at_a_time(session, project.id)
        for name, commit in found.items():
            session.merge(Ref(project_id=project.id, name=name, commit=commit))
        project.looked_at = func.now()
    return found


def _seen(session: Session, name: str, trouble: str | None) -> Project:
    project = the_project(session, name)
    if (project.trouble is None) != (trouble is None):
        tell(session, "project", name)
    project.trouble = trouble
    project.looked_at = func.now()
    session.flush()
    return project


def _is_next(session: Session, project: Project, move: Moved) -> bool:
    known = session.get(Ref, (project.id, move.ref), with_for_update=True)
    return (known is None and not move.before.strip("0")) or (known is not None and known.commit == move.before)


def _made_already(session: Session, project: Project, move: Moved) -> list[int]:
    """The run of a move that a look found before its hook could ring."""
    known = session.get(Ref, (project.id, move.ref))
    if known is None or known.commit != move.after:
        return []
    number = newest_run_in(session, project.id, str(push_to(move.ref.removeprefix(BRANCH))), move.after)
    return [number] if number is not None else []


def _take(session: Session, project: Project, name: str, commit: str) -> list[int]:
    """Record that a branch or tag is at a commit; the numbers of the runs made when that is new."""
    ref = session.get(Ref, (project.id, name), with_for_update=True)
    if not commit.strip("0"):
        if ref is not None:
            session.delete(ref)
            session.flush()
            weigh_anew(session, project.id, [push_to(name.removeprefix(BRANCH))])
        return []
    if ref is not None and ref.commit == commit:
        return []
    before = ref.commit if ref is not None else None
    session.merge(Ref(project_id=project.id, name=name, commit=commit))
    session.flush()
    if why := not_tested(name):
        _log.warning("%s: %s", project.name, why)
        return []
    if name.startswith(TAG):
        tag = name.removeprefix(TAG)
        wish = RunWish(said=f"The tag {tag} moved here from {before[:7]}" if before else "")
        return [
            start_run(
                session,
                project,
                event=EventKind.TAG,
                context=Context(EventKind.TAG, tag),
                branch="",
                commit=commit,
                tag=tag,
                wish=wish,
            )
        ]
    if not name.startswith(BRANCH):
        return _take_pull(session, project, name)
    branch = name.removeprefix(BRANCH)
    numbers = [
        start_run(
            session,
            project,
            event=EventKind.PUSH,
            context=push_to(branch),
            branch=branch,
            commit=commit,
            before=before,
        )
    ]
    if ref is None:
        weigh_anew(session, project.id, [push_to(branch)])
    pulls = open_pulls_from(session, project.id, branch)
    numbers += [n for pull in pulls if (n := start_pull_request(session, project, pull)) is not None]
    return numbers + (refresh_into(session, project, branch) if project.pull_refresh == AT_ONCE else [])


def not_tested(ref: str) -> str:
    """Why a branch or tag of this name is never tested; empty where it is."""
    name = ref.removeprefix(BRANCH).removeprefix(TAG)
    odd = answers.unseen(name)
    what = "branch" if ref.startswith(BRANCH) else "tag"
    return f"the {what} {answers.shown(name)} is not tested: nobody can see {odd} in its name; rename it" if odd else ""


def _take_pull(session: Session, project: Project, name: str) -> list[int]:
    """A ref that is a pull request is new or moved: it is open, and tested as it would be merged."""
    number = pull_number(project.pull_refs, name)
    if number is None:
        return []
    target = project.pull_target or project.main_branch
    pull = session.get(PullRequest, (project.id, number), with_for_update=True)
    if pull is None:
        pull = PullRequest(
            project_id=project.id, number=number, title="", author="", target=target, source=name, state=PullState.OPEN
        )
        pull.stranger = project.pull_strangers
        session.add(pull)
    pull.source = name
    again = become(pull, PullState.OPEN)
    session.flush()
    if again:
        weigh_anew(session, project.id, [Context(EventKind.PULL_REQUEST, str(number))])
    begun = start_pull_request(session, project, pull)
    return [begun] if begun is not None else []
