"""What the stand-in host asks git for: branches, merges, and git's own service over HTTP."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

ZERO = "0" * 40
_MERGES_ONLY = """#!/bin/sh
# Branches that take merges only: nobody pushes to them.
for branch in $(git config --get-all host.protected); do
    [ "$1" = "refs/heads/$branch" ] && { echo "$branch takes merges only" >&2; exit 1; }
done
exit 0
"""


class GitRefused(Exception):
    """Git did not do it; the text is what git said."""


def git(folder: Path | None, *words: str, feed: bytes = b"", allowed: tuple[int, ...] = (0,)) -> str:
    """Run git without this machine's configuration. Raises GitRefused."""
    who = ("-c", "user.name=Harbour", "-c", "user.email=harbour@localhost")
    command = ["git", "-c", "safe.directory=*", *who, *(["-C", str(folder)] if folder else []), *words]
    done = subprocess.run(command, input=feed, capture_output=True, env=_environment({}), check=False)
    if done.returncode not in allowed:
        raise GitRefused(done.stderr.decode("utf-8", "replace").strip()[-500:] or f"git {words[0]} failed")
    return done.stdout.decode("utf-8", "replace").strip()


def _environment(more: Mapping[str, str]) -> dict[str, str]:
    clean = {
        "PATH": os.environ.get("PATH", ""),
        "HOME": "/nonexistent",
        "GIT_CONFIG_NOSYSTEM": "1",
        "LC_ALL": "C.UTF-8",
    }
    return clean | dict(more)


@dataclass(frozen=True, slots=True)
class Bare:
    """A bare repository of the host."""

    path: Path

    def protect(self, branch: str) -> None:
        """Let a branch take merges only."""
        git(self.path, "config", "--replace-all", "host.protected", branch, f"^{branch}$")
        hook = self.path / "hooks/update"
        hook.write_text(_MERGES_ONLY)
        hook.chmod(0o755)

    def branches(self) -> dict[str, str]:
        """Branches with their commits."""
        listed = git(self.path, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads/")
        rows = (line.partition(" ") for line in listed.split("\n") if line)
        return {name.removeprefix("refs/heads/"): commit for commit, _, name in rows}

    def title(self, commit: str) -> str:
        return git(self.path, "show", "-s", "--format=%s", commit)

    def set_ref(self, ref: str, commit: str, before: str | None = None) -> None:
        git(self.path, "update-ref", ref, commit, *([before] if before else []))

    def take(self, other: Path, branch: str, ref: str) -> None:
        """Bring a branch of another repository here, as a ref."""
        git(self.path, "fetch", "--quiet", "--no-tags", str(other), f"+refs/heads/{branch}:{ref}")

    def merge(self, target: str, head: str, message: str) -> str:
        """Merge a commit into a branch; the merge's id. Raises GitRefused, with the files on a conflict."""
        at = self.branches()[target]
        told = git(self.path, "merge-tree", "--write-tree", "--name-only", "--no-messages", at, head, allowed=(0, 1))
        tree, *conflicts = told.rstrip("\n").split("\n")
        if conflicts:
            raise GitRefused(f"conflicts in {', '.join(dict.fromkeys(conflicts))}")
        made = git(self.path, "commit-tree", tree, "-p", at, "-p", head, "-F", "-", feed=message.encode())
        self.set_ref(f"refs/heads/{target}", made, at)
        return made


@dataclass(frozen=True, slots=True)
class Served:
    status: int
    headers: dict[str, str]
    body: bytes


def serve_git(
    root: Path, method: str, path: str, query: str, headers: Mapping[str, str], body: bytes, user: str
) -> Served:
    """Git's own service over HTTP (git-http-backend(1)) for one request; `user` may push, nobody else."""
    cgi = {
        "GIT_PROJECT_ROOT": str(root),
        "GIT_HTTP_EXPORT_ALL": "1",
        "PATH_INFO": path,
        "REQUEST_METHOD": method,
        "QUERY_STRING": query,
        "CONTENT_TYPE": headers.get("content-type", ""),
        "CONTENT_LENGTH": str(len(body)),
        "HTTP_CONTENT_ENCODING": headers.get("content-encoding", ""),
        "GIT_PROTOCOL": headers.get("git-protocol", ""),
        "REMOTE_USER": user,
        "REMOTE_ADDR": "127.0.0.1",
    }
    command = ["git", "-c", "safe.directory=*", "http-backend"]
    done = subprocess.run(command, input=body, capture_output=True, env=_environment(cgi), check=False)
    head, _, content = done.stdout.partition(b"\r\n\r\n")
    told = dict(line.split(": ", 1) for line in head.decode("latin-1").split("\r\n") if ": " in line)
    status = int(told.pop("Status", "200 OK").split()[0]) if done.returncode == 0 else 500
    return Served(status, told, content)
