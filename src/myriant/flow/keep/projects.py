"""Projects: which repositories are watched, and how."""

from __future__ import annotations

import re
import sys
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

from myriant.flow.ask.repositories import POLL_SECONDS, is_bare, main_branch_of, suggested_name, why_refused
from myriant.flow.errors import BadInput, Refused
from myriant.flow.intake.refs import remember_branches
from myriant.flow.keep.people import make_token
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.hook import install_hook
from myriant.repos.mirror import heads
from myriant.store.changes import tell
from myriant.store.projects import project_named, remove_project
from myriant.store.projects import project_names as names
from myriant.store.tables import Project

_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,59}")


@dataclass(frozen=True, slots=True)
class Added:
    name: str
    hooked: bool
    chained: bool
    branches: int
    said: str


def add_project(site: Site, address: str, name: str | None = None, description: str = "") -> Added:
    """Watch a repository: by a hook where it lies on this machine, else by polling.

    Nothing runs for what is there already; the next push does. Raises BadInput with the reason when the
    repository cannot be read, Refused when the name is taken.
    """
    path = Path(address).expanduser()
    local = path.is_dir()
    if local:
        address = str(path.resolve())
    try:
        branches = heads(address)
    except GitError as error:
        raise BadInput(
            f"{address} cannot be read as a git repository: {error}", why_refused(address, str(error))
        ) from error
    name = name or suggested_name(address)
    if not _NAME.fullmatch(name):
        raise BadInput(f"{name!r} cannot be a project's name", "use --name with small letters, digits and hyphens")
    with site.store.transaction() as session:
        if project_named(session, name) is not None:
            raise Refused(f"there is a project {name} already", "choose another with --name")
        project = Project(
            name=name, description=description, address=address, main_branch=main_branch_of(address, branches)
        )
        session.add(project)
        session.flush()
        token = make_token(session, "hook", project=project.id)
        tell(session, "project", name)
    hooked = chained = False
    trouble = ""
    if local and is_bare(Path(address)):
        parts = urlsplit(site.address)
        try:
            chained = install_hook(
                Path(address), project=name, host=parts.hostname or "127.0.0.1", port=parts.port or 80,
                token=token, python=sys.executable,
            )  # fmt: skip
            hooked = True
        except OSError as error:
            trouble = f" (its hooks folder cannot be written: {error.strerror})"
    if hooked:
        with site.store.transaction() as session:
            session.get_one(Project, project.id).hooked = True
    remember_branches(site, name)
    how = "every push is heard at once, by a hook" if hooked else f"it is looked at every {POLL_SECONDS:g} s{trouble}"
    return Added(
        name,
        hooked,
        chained,
        sum(b.startswith("refs/heads/") for b in branches),
        how + (", and the hook that was there is kept" if chained else ""),
    )


def forget_project(site: Site, name: str) -> None:
    """Remove a project with everything that is kept about it; its repository stays as it is."""
    with site.store.transaction() as session:
        remove_project(session, name)
        tell(session, "project", name)


def project_names(site: Site, *, due_after: float | None = None) -> list[str]:
    """Names of all projects; with `due_after`, those not looked at for so many seconds."""
    with site.store.transaction() as session:
        return names(session, due_after=due_after)
