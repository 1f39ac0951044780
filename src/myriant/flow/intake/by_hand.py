"""By hand: a person has a branch, tag or commit tested."""

from __future__ import annotations

from myriant.core.gate.contexts import push_to
from myriant.core.plan.selectors import SelectorError, parse_selector
from myriant.core.states import EventKind
from myriant.flow.errors import BadInput
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.state.starting import Taken, branch_of, start_run, started_text
from myriant.repos import answers
from myriant.repos.git import GitError
from myriant.store.records import RunWish


def start_by_hand(
    site: Site, project_name: str, *, ref: str = "", jobs: list[str] | None = None, cells: str = "", by: str = ""
) -> Taken:
    """Test a branch, tag or commit because a person says so, all of it or some jobs or cells. Raises BadInput.

    It counts as a push to the branch that the commit is on, unless planning finds that a part is left out.
    """
    if cells:
        try:
            parse_selector(cells)
        except SelectorError as error:
            raise BadInput(str(error), "write for example python<=3.9") from error
    with site.store.transaction() as session:
        project = the_project(session, project_name)
    mirror = site.mirror(project)
    try:
        mirror.fetch()
    except GitError as error:
        raise BadInput(f"the repository cannot be read: {error}", "is it there, and may the server read it?") from error
    wanted = ref or project.main_branch
    commit = mirror.resolve(wanted)
    if commit is None:
        raise BadInput(f"the repository has no branch, tag or commit {wanted[:200]}", "name one that it has")
    branch = branch_of(mirror, project.main_branch, wanted, commit)
    branch = "" if answers.unseen(branch) else branch
    wish = RunWish(jobs=tuple(jobs or ()), cells=cells, by=by)
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        number = start_run(
            session,
            project,
            event=EventKind.MANUAL,
            context=push_to(branch) if branch else None,
            branch=branch,
            commit=commit,
            wish=wish,
        )
    return Taken(started_text([number]), [number])
