"""The plan as it stands in the repository or on the server."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from myriant.core.plan.advice_of_texts import misplaced
from myriant.core.plan.model import FILE_NAME
from myriant.flow.errors import BadInput
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.settings import settings
from myriant.store.tables import Project


@dataclass(frozen=True, slots=True)
class Standing:
    """The plan as it stands: where it comes from, and what it is compared with."""

    text: str
    origin: str  # repository, server, none
    branch: str
    commit: str | None
    branches: list[str]
    misplaced: str  # what to tell of a plan under another name
    empty: bool  # the repository has no commit
    hooked: bool
    next_look: datetime | None  # when the repository is looked at next, without a hook
    main_branch: str


def standing_plan(site: Site, project_name: str, branch: str | None = None) -> Standing:
    """The plan of a branch as it is in the repository now, or the one kept on the server."""
    project, mirror, heads = fetched(site, project_name)
    branch = branch or project.main_branch
    commit = heads.get(branch)
    text = mirror.file(commit, FILE_NAME) if commit else None
    files = mirror.files(commit) if commit and text is None else []
    origin = "repository" if text is not None else "server" if project.plan is not None else "none"
    looked = project.looked_at
    return Standing(
        text=(text if text is not None else (project.plan or "").encode()).decode("utf-8", "replace"),
        origin=origin,
        branch=branch,
        commit=commit,
        branches=sorted(heads),
        misplaced=misplaced(files),
        empty=not heads,
        hooked=project.hooked,
        next_look=None if project.hooked or looked is None else looked + timedelta(seconds=settings().poll_seconds),
        main_branch=project.main_branch,
    )


def fetched(site: Site, project_name: str) -> tuple[Project, Mirror, dict[str, str]]:
    """The project, its mirror brought up to date, and its branches."""
    with site.store.view() as session:
        project = the_project(session, project_name)
    mirror = site.mirror(project)
    try:
        mirror.fetch()
    except GitError as error:
        raise BadInput(f"the repository cannot be read: {error}", "is it there, and may the server read it?") from error
    return project, mirror, mirror.branches()
