"""Projects: which repositories are watched, and how."""

from __future__ import annotations

import os
import re
import sys
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

from sqlalchemy import delete, func, or_, select

from myriant.core.written import counted
from myriant.flow.errors import BadInput, Refused
from myriant.flow.intake import remember_branches
from myriant.flow.people import make_token
from myriant.flow.site import Site
from myriant.repos.git import GitError, git
from myriant.repos.hook import install_hook
from myriant.repos.mirror import heads
from myriant.store.changes import tell
from myriant.store.runs import project_named
from myriant.store.tables import Project

POLL_SECONDS = float(os.environ.get("MYRIANT_POLL_SECONDS", "30"))
_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,59}")


@dataclass(frozen=True, slots=True)
class Added:
    name: str
    hooked: bool
    chained: bool
    branches: int
    said: str


@dataclass(frozen=True, slots=True)
class FirstLook:
    address: str
    name: str
    branches: int
    main_branch: str
    local: bool
    hookable: bool
    empty: bool
    said: str


def first_look(address: str) -> FirstLook:
    """Try to read a repository before it is added. Raises BadInput with the reason and the mend."""
    address = address.strip()
    path = Path(address).expanduser()
    local = path.is_dir()
    if local:
        address = str(path.resolve())
    try:
        refs = heads(address)
    except GitError as error:
        raise BadInput(
            f"{address[:300]} cannot be read as a git repository: {error}", _why(address, str(error))
        ) from error
    branches = [r for r in refs if r.startswith("refs/heads/")]
    hookable = local and _is_bare(Path(address)) and os.access(Path(address) / "hooks", os.W_OK)
    name = suggested_name(address)
    how = (
        "every push would be heard at once, by a hook"
        if hookable
        else f"it would be looked at every {POLL_SECONDS:g} s"
    )
    return FirstLook(
        address,
        name,
        len(branches),
        _main_branch(address, {b: refs[b] for b in branches}),
        local,
        hookable,
        not branches,
        f"{counted(len(branches), 'branch', 'branches')}; {how}" if branches else f"it is empty; {how}",
    )


def _why(address: str, said: str) -> str:
    """The mend for the usual refusals of git."""
    low = said.lower()
    if "authentication" in low or "permission denied" in low or "could not read username" in low:
        return "the server is not let in: give its key or a token access to the repository"
    if any(s in low for s in ("could not resolve", "unable to connect", "failed to connect", "connection refused")):
        return "is the address written right, and can the server's machine reach it?"
    if "not found" in low or "does not exist" in low or "does not appear" in low or "no such" in low:
        return "is the path or address written right? It must lead to a git repository"
    return "name a path or an address that git can fetch"


def suggested_name(address: str) -> str:
    base = re.sub(r"/+\.git$", "", address.rstrip("/"))
    return re.sub(r"[^a-z0-9]+", "-", Path(base).name.removesuffix(".git").lower()).strip("-")[:60]


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
        raise BadInput(f"{address} cannot be read as a git repository: {error}", _why(address, str(error))) from error
    name = name or suggested_name(address)
    if not _NAME.fullmatch(name):
        raise BadInput(f"{name!r} cannot be a project's name", "use --name with small letters, digits and hyphens")
    with site.store.transaction() as session:
        if project_named(session, name) is not None:
            raise Refused(f"there is a project {name} already", "choose another with --name")
        project = Project(
            name=name, description=description, address=address, main_branch=_main_branch(address, branches)
        )
        session.add(project)
        session.flush()
        token = make_token(session, "hook", project=project.id)
        tell(session, "project", name)
    hooked = chained = False
    trouble = ""
    if local and _is_bare(Path(address)):
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
        session.execute(delete(Project).where(Project.name == name))
        tell(session, "project", name)


def _main_branch(address: str, branches: dict[str, str]) -> str:
    try:
        said = git(None, "ls-remote", "--symref", "--", address, "HEAD", timeout=60).decode("utf-8", "replace")
    except GitError:
        said = ""
    found = re.match(r"ref: refs/heads/(\S+)\tHEAD", said)
    if found:
        return found[1]
    names = [n.removeprefix("refs/heads/") for n in branches if n.startswith("refs/heads/")]
    return "main" if "main" in names or not names else names[0]


def _is_bare(path: Path) -> bool:
    try:
        return git(path, "rev-parse", "--is-bare-repository").strip() == b"true"
    except GitError:
        return False


def project_names(site: Site, *, due_after: float | None = None) -> list[str]:
    """Names of all projects; with `due_after`, those not looked at for so many seconds."""
    with site.store.transaction() as session:
        query = select(Project.name).order_by(Project.name)
        if due_after is not None:
            due = func.now() - func.make_interval(0, 0, 0, 0, 0, 0, due_after)
            query = query.where(or_(Project.looked_at.is_(None), Project.looked_at < due))
        return list(session.scalars(query))
