"""A repository that git is asked about from here: who serves it, and what opens it."""

from __future__ import annotations

import os
import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import urlsplit, urlunsplit

from myriant.repos import answers
from myriant.repos.door import served_by
from myriant.repos.git import GitError, git

_HERE = Path(__file__).parent


@dataclass(frozen=True, slots=True)
class Remote:
    """`address` holds no password; `password` is given to git when it asks for it, and shown nowhere."""

    address: str
    password: str = field(default="", repr=False)

    @property
    def local(self) -> Path | None:
        """The folder of a repository on this machine."""
        path = self.address.removeprefix("file://")
        return Path(path) if path.startswith("/") else None

    def git(self, directory: Path | None, command: str, *words: str, timeout: float = 300) -> bytes:
        """Run a command of git that reaches the repository; `words` follow the address. Raises GitError.

        A repository of another owner on this machine is served by its owner: its hooks and its configuration are
        theirs, and do nothing with the server's rights.
        """
        if self.address.startswith("-"):
            raise GitError("an address cannot begin with a hyphen")
        flags = [w for w in words if w.startswith("--")]
        rest = [w for w in words if not w.startswith("--")]
        program = "receive-pack" if command == "push" else "upload-pack"
        served = [f"--{program}={served}"] if (served := self._served(program)) else []
        return git(
            directory,
            command,
            *served,
            *flags,
            "--",
            self.address,
            *rest,
            timeout=timeout,
            environment=self._environment(),
        )

    def _served(self, program: str) -> str:
        path = self.local
        if path is None:
            return ""
        if os.geteuid() != 0:
            return served_by(program)
        try:
            owner = path.stat()
        except OSError:
            return ""
        if owner.st_uid == 0:
            return ""
        return f"setpriv --reuid {owner.st_uid} --regid {owner.st_gid} --clear-groups git {program}"

    def _environment(self) -> Mapping[str, str]:
        if not self.password:
            return {}
        return {"GIT_ASKPASS": str(_HERE / "askpass"), "MYRIANT_GIT_PASSWORD": self.password}


def without_password(address: str) -> tuple[str, str]:
    """An address without its password, and the password; a user without one, as tokens are written, is taken as it."""
    parts = urlsplit(address) if "://" in address else None
    if parts is None or parts.scheme not in ("http", "https") or "@" not in parts.netloc:
        return address, ""
    who, _, host = parts.netloc.rpartition("@")
    user, colon, password = who.partition(":")
    if not colon:
        user, password = "token", user
    return urlunsplit((parts.scheme, f"{user}@{host}", *parts[2:])), password


_PULLS = re.compile(r"refs/(?!heads/|tags/|notes/|myriant/)[A-Za-z0-9._/-]*\*[A-Za-z0-9._/-]*")


def is_pull_pattern(text: str) -> bool:
    """Whether a text can say which refs are pull requests: refs/…, with one * where the number stands."""
    return bool(_PULLS.fullmatch(text)) and ".." not in text and "//" not in text


def pull_number(pattern: str, ref: str) -> int | None:
    """The number of the pull request that a ref is by a pattern, None when it is none."""
    before, _, after = pattern.partition("*")
    middle = ref[len(before) : len(ref) - len(after)]
    fits = ref.startswith(before) and ref.endswith(after) and ref == f"{before}{middle}{after}"
    digits = middle.rsplit("/", 1)[-1]
    return int(digits) if pattern and fits and re.fullmatch("[0-9]{1,9}", digits) else None


def heads(remote: Remote, pulls: str = "", only: Collection[str] = ()) -> dict[str, str]:
    """Branches and tags of a repository and their commits, by full name. Raises GitError with the reason otherwise.

    `pulls` is a pattern of further refs, those of pull requests; `only` these refs, where some are named.

    An annotated tag counts as the commit that it names.
    """
    wanted = [*only] or ["refs/heads/*", "refs/tags/*", *([pulls] if pulls else [])]
    found: dict[str, str] = {}
    for name, commit in answers.refs(remote.git(None, "ls-remote", *wanted, timeout=60)).items():
        if name.startswith(("refs/heads/", "refs/tags/")) or (pulls and pull_number(pulls, name)):
            found[name.removesuffix("^{}")] = commit  # the peeled line follows the tag's own
    return found
