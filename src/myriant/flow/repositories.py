"""A repository before it is added: can it be read, and how would its events be heard?"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from myriant.core.written import counted
from myriant.flow.errors import BadInput
from myriant.repos import answers
from myriant.repos.door import Seen, look
from myriant.repos.git import GitError
from myriant.repos.remote import Remote, heads, without_password
from myriant.settings import settings


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
    remote, refs = opened(address)
    address, local = remote.address, remote.local
    branches = [r for r in refs if r.startswith("refs/heads/")]
    hookable = local is not None and _seen(local).hookable
    name = suggested_name(address)
    how = (
        "every push would be heard at once, by a hook"
        if hookable
        else f"it would be looked at every {settings().poll_seconds:g} s"
    )
    return FirstLook(
        address,
        name,
        len(branches),
        main_branch_of(remote, {b: refs[b] for b in branches}),
        local is not None,
        hookable,
        not branches,
        f"{counted(len(branches), 'branch', 'branches')}; {how}" if branches else f"it is empty; {how}",
    )


def opened(address: str) -> tuple[Remote, dict[str, str]]:
    """A repository that is to be added, with its branches and tags. Raises BadInput with the reason and the mend.

    A password that stands in the address is taken out of it.
    """
    address, password = without_password(address.strip())
    remote = Remote(_folder(address) or address, password)
    try:
        return remote, heads(remote)
    except GitError as error:
        said = str(error).replace(password, "…") if password else str(error)
        raise BadInput(
            f"{remote.address[:300]} cannot be read as a git repository: {said}", why_refused(address, said)
        ) from error


def _folder(address: str) -> str:
    """The folder on this machine that an address names, empty when it names none."""
    try:
        path = Path(address.removeprefix("file://")).expanduser().absolute()
    except (ValueError, RuntimeError):
        return ""
    return _seen(path).path


def _seen(path: Path) -> Seen:
    try:
        return look(path)
    except (OSError, ValueError):
        return Seen("")


def why_refused(address: str, said: str) -> str:
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


def main_branch_of(remote: Remote, branches: dict[str, str]) -> str:
    try:
        said = answers.lines(remote.git(None, "ls-remote", "--symref", "HEAD", timeout=60))
    except GitError:
        said = []
    for line in said:
        ref, _, what = line.partition("\t")
        if ref.startswith("ref: refs/heads/") and what == "HEAD":
            return ref.removeprefix("ref: refs/heads/")
    names = [n.removeprefix("refs/heads/") for n in branches if n.startswith("refs/heads/")]
    return "main" if "main" in names or not names else names[0]
