"""Pull requests: opened, updated, ended."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.gate.contexts import Context
from myriant.core.states import EventKind, PullState
from myriant.flow.errors import BadInput, Refused
from myriant.flow.intake.refs import look
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.state.pulls import become
from myriant.flow.state.runs import weigh_anew
from myriant.flow.state.starting import Taken, minutes_spent, start_pull_request, started_text
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.changes import tell
from myriant.store.projects import branch_at, newest_pulls
from myriant.store.runs import has_run_of_pull, run_numbered
from myriant.store.tables import Project, PullRequest

MOST_PULLS = 1000


def change_pull_request(
    site: Site,
    project_name: str,
    number: int,
    *,
    source: str | None = None,
    target: str | None = None,
    title: str = "",
    author: str = "",
    state: PullState = PullState.OPEN,
    trusted: bool | None = None,
) -> Taken:
    """Open, update or end a pull request; one that is open is tested as its branches stand now. Raises BadInput.

    `trusted`: whether its author may write here; None leaves that as it is, and is yes for a new one.
    """
    numbers = look(site, project_name)
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        pull = session.get(PullRequest, (project.id, number), with_for_update=True)
        if pull is None:
            if state is not PullState.OPEN:
                return Taken(f"pull request {number} was not known", numbers)
            if not source:
                raise BadInput(f"pull request {number} is not known and names no source", "name its source and target")
            pull = PullRequest(
                project_id=project.id,
                number=number,
                source=source,
                target=target or project.main_branch,
                title=title[:500],
                author=author[:200],
                state=PullState.OPEN,
            )
            session.add(pull)
        else:
            pull.source, pull.target = source or pull.source, target or pull.target
            pull.title = title[:500] or pull.title
            pull.author = author[:200] or pull.author  # it may have been found as a ref first
            if become(pull, state):
                session.flush()
                weigh_anew(session, project.id, [Context(EventKind.PULL_REQUEST, str(number))])
        pull.stranger = pull.stranger if trusted is None else not trusted
        session.flush()
        if state is not PullState.OPEN:
            tell(session, "project", project.name)
            return Taken(f"pull request {number} is {state}", numbers)
        if pull.source == pull.target:
            raise BadInput(f"{pull.source} cannot be merged into itself", "name another target")
        for branch in (pull.source, pull.target):
            if branch_at(session, project.id, branch) is None:
                raise BadInput(f"the repository has no branch {branch[:200]}", "push it first")
        made = numbers or []
        if not any(_is_of(session, project, n, number) for n in made):
            begun = start_pull_request(session, project, pull)
            made = [*made, *([begun] if begun is not None else [])]
        else:
            begun = None
        waits = f"{project.name} is paused; it is tested when that ends" if project.paused else ""
        if pull.stranger and begun is None and not waits:
            waits = f"pull request {number} is a stranger's, and waits for a maintainer's word"
            if minutes_spent(session, project, pull):
                waits = f"pull request {number} is a stranger's, and its {project.stranger_minutes} minutes are spent"
        tell(session, "project", project.name)
    return Taken(started_text(made) or waits, made)


def let_run(site: Site, project_name: str, number: int, head: str, who: Person) -> Taken:
    """A maintainer has looked at a stranger's pull request at this head: it is tested. Raises BadInput, Refused."""
    look(site, project_name)
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        pull = session.get(PullRequest, (project.id, number), with_for_update=True)
        if pull is None or pull.state is not PullState.OPEN:
            raise BadInput(f"there is no open pull request {number}", "open it first")
        now = branch_at(session, project.id, pull.source)
        if now != head:
            raise Refused(f"its head is {(now or 'gone')[:12]} now", "look at what it is now before it runs here")
        pull.allowed = head
        record(session, project.id, who.name, "let run", f"pull request {number} at {head[:12]}")
        begun = start_pull_request(session, project, pull)
        made = [begun] if begun is not None else []
    return Taken(started_text(made), made)


def test_again(site: Site, project_name: str, number: int) -> Taken:
    """Test an open pull request as its branches stand now, though it was tested before. Raises BadInput."""
    look(site, project_name)
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        pull = session.get(PullRequest, (project.id, number))
        if pull is None or pull.state is not PullState.OPEN:
            raise BadInput(f"there is no open pull request {number}", "open it first")
        begun = start_pull_request(session, project, pull)
        if begun is None:
            raise BadInput(
                f"pull request {number} cannot be tested now",
                "its branches are gone, the project is paused, or it is a stranger's whose minutes are spent",
            )
    return Taken(started_text([begun]), [begun])


def start_what_waits(site: Site, project_name: str) -> list[int]:
    """Take up what moved while a project was paused: branches, tags, and open pull requests at new heads."""
    numbers = look(site, project_name)
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        for pull in newest_pulls(session, project.id, MOST_PULLS):
            head = branch_at(session, project.id, pull.source)
            if pull.state is PullState.OPEN and head and not has_run_of_pull(session, project.id, pull.number, head):
                begun = start_pull_request(session, project, pull)
                numbers += [begun] if begun is not None else []
    return numbers


def _is_of(session: Session, project: Project, number: int, pull: int) -> bool:
    run = run_numbered(session, project.id, number)
    return run is not None and run.pull_request == pull
