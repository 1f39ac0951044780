"""A repository before it is added: can it be read, and how would its events be heard?"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

from myriant.core.written import counted
from myriant.flow.errors import BadInput
from myriant.repos.git import GitError, git
from myriant.repos.mirror import heads

POLL_SECONDS = float(os.environ.get("MYRIANT_POLL_SECONDS", "30"))


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
            f"{address[:300]} cannot be read as a git repository: {error}", why_refused(address, str(error))
        ) from error
    branches = [r for r in refs if r.startswith("refs/heads/")]
    hookable = local and is_bare(Path(address)) and os.access(Path(address) / "hooks", os.W_OK)
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
        main_branch_of(address, {b: refs[b] for b in branches}),
        local,
        hookable,
        not branches,
        f"{counted(len(branches), 'branch', 'branches')}; {how}" if branches else f"it is empty; {how}",
    )


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


def main_branch_of(address: str, branches: dict[str, str]) -> str:
    try:
        said = git(None, "ls-remote", "--symref", "--", address, "HEAD", timeout=60).decode("utf-8", "replace")
    except GitError:
        said = ""
    found = re.match(r"ref: refs/heads/(\S+)\tHEAD", said)
    if found:
        return found[1]
    names = [n.removeprefix("refs/heads/") for n in branches if n.startswith("refs/heads/")]
    return "main" if "main" in names or not names else names[0]


def is_bare(path: Path) -> bool:
    try:
        return git(path, "rev-parse", "--is-bare-repository").strip() == b"true"
    except GitError:
        return False
