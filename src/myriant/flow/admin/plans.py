"""Plans are saved: as a commit, or on the server for a repository that has none."""

from __future__ import annotations

from dataclasses import dataclass

from myriant.core.plan.model import FILE_NAME
from myriant.core.plan.read import read_plan
from myriant.flow.errors import BadInput, Refused
from myriant.flow.intake.pulls import change_pull_request
from myriant.flow.intake.refs import look
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.standing_plan import fetched
from myriant.flow.who import Person
from myriant.repos.git import GitError
from myriant.store.audit import record
from myriant.store.changes import tell
from myriant.store.projects import BRANCH, newest_pulls
from myriant.store.runs import runs_of_commit
from myriant.store.tables import Project, Ref, Untested


@dataclass(frozen=True, slots=True)
class Saved:
    commit: str
    branch: str
    said: str
    runs: list[int]


def save_plan(
    site: Site,
    project_name: str,
    who: Person,
    *,
    text: str,
    branch: str,
    message: str,
    start: bool,
    expected: str | None,
    ask: bool = False,
) -> Saved:
    """Commit a plan to a branch, an existing or a new one; without `start` the commit starts nothing.

    `ask`: a pull request is opened for it; where a host opens them, its own way is the one (Refused).
    `expected` is the branch's commit on which the text was written: when it has moved since, Refused.
    """
    project, mirror, heads = fetched(site, project_name)
    reading = read_plan(text.encode())
    if reading.plan is None and start:
        raise BadInput(f"the plan has problems, first {reading.errors[0]}", "mend them, or save without starting")
    if not branch or branch.startswith(("-", "/")) or any(c in branch for c in " ~^:?*[\\\0") or ".." in branch:
        raise BadInput(f"{branch[:80]!r} cannot be the name of a branch", "write for example plan/first")
    if ask and branch == project.main_branch:
        raise BadInput(f"{branch} cannot be merged into itself", "save it on a branch of its own")
    if ask and (project.pull_refs or project.foreign):
        raise Refused("pull requests are opened at the repository's host", "save it on a branch, and ask for it there")
    head = heads.get(branch)
    if expected is not None and head is not None and head != expected:
        raise Refused(f"{branch} has moved to {head[:7]} meanwhile", "load its plan again and repeat your change")
    parent = head or heads.get(project.main_branch)
    if parent is not None and mirror.file(parent, FILE_NAME) == text.encode() and head is not None:
        raise Refused(f"{branch} has this very plan already", "change something first")
    try:
        commit = mirror.commit_file(parent, FILE_NAME, text.encode(), message or "Write the test plan", who.name)
        if not start:
            with site.store.transaction() as session:
                session.merge(Ref(project_id=project.id, name=BRANCH + branch, commit=commit))
                session.merge(
                    Untested(
                        project_id=project.id,
                        commit=commit,
                        branch=branch,
                        run=0,
                        title=(message or "Write the test plan")[:500],
                        reason=f"{who.name} saved the plan without starting a run",
                    )
                )
        mirror.send(commit, branch, head)
    except GitError as error:
        if not start:
            _forget_head(site, project, branch, head)
        raise Refused(f"the repository did not take the commit: {error}", "may the server write to it?") from error
    numbers = look(site, project_name) if start else []
    if start and not numbers:  # the hook was quicker
        with site.store.transaction() as session:
            numbers = [r.number for r in runs_of_commit(session, commit) if r.project_id == project.id]
    if ask:
        numbers += _ask(site, project, branch, message or "Write the test plan", who)
    how = f"started {', '.join(f'#{n}' for n in numbers)}" if numbers else "" if start else "nothing was started"
    return Saved(commit, branch, how, numbers)


def _ask(site: Site, project: Project, branch: str, title: str, who: Person) -> list[int]:
    """Open a pull request for a branch; the runs that were made."""
    with site.store.view() as session:
        known = newest_pulls(session, project.id, 1)
    number = known[0].number + 1 if known else 1
    return change_pull_request(site, project.name, number, source=branch, title=title, author=who.name).runs


def _forget_head(site: Site, project: Project, branch: str, head: str | None) -> None:
    with site.store.transaction() as session:
        ref = session.get(Ref, (project.id, BRANCH + branch))
        if ref is not None and head is not None:
            ref.commit = head
        elif ref is not None:
            session.delete(ref)


def keep_plan(site: Site, project_name: str, who: Person, text: str | None) -> None:
    """Keep a plan on the server for a repository that has none; None takes it away."""
    if text is not None and len(text.encode()) > 1 << 20:
        raise BadInput("the plan has more than 1 MiB", "make it smaller")
    if text is not None and (reading := read_plan(text.encode())).plan is None:
        raise BadInput(f"the plan has problems, first {reading.errors[0]}", "mend them first")
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        project.plan = text
        said = "its plan is kept on the server" if text is not None else "no plan is kept on the server any more"
        record(session, project.id, who.name, "plan", said)
        tell(session, "project", project_name)
