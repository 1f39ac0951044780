"""The workspace: the exact commit, fetched from the server's mirror with the lease's own credential."""

from __future__ import annotations

import hashlib
import os
import re
import shlex
import shutil
import subprocess
import tempfile
import threading
from pathlib import Path

from myriant.wire.lease import Lease

_PAUSES = (0.5, 1.0, 2.0, 4.0, 8.0)  # seconds between tries while the server is away
_PROTOCOLS = "https:http:ssh:git"


class SourceMissing(Exception):
    """The commit cannot be had; the text says why."""


_KEPT = 6  # checkouts that are kept for the next cells


class Checkouts:
    """Fresh checkouts kept by commit while the runner lives: the cells of a run fetch it once and copy it.

    They lie beside the workspaces, where no step can see or change them.
    """

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._lock = threading.Lock()
        self._making: dict[str, threading.Lock] = {}

    def fill(self, lease: Lease, source: str, workspace: Path, stopped: threading.Event) -> None:
        """Put the lease's commit into an empty folder. Raises SourceMissing."""
        wish = lease.source
        server = source.partition("/api/")[0]
        parts = (server, lease.project, lease.commit, wish.full, wish.tags, wish.submodules)
        name = hashlib.sha256(repr(parts).encode()).hexdigest()[:32]
        with self._lock:
            making = self._making.setdefault(name, threading.Lock())
        kept = self._folder / name
        with making:
            if not kept.exists():
                self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
                part = Path(tempfile.mkdtemp(dir=self._folder, prefix="part-"))
                try:
                    fetch(lease, source, part, stopped)
                    part.rename(kept)
                except BaseException:
                    shutil.rmtree(part, ignore_errors=True)
                    raise
                self._forget(name)
            os.utime(kept)
            done = subprocess.run(
                ["cp", "-a", "--reflink=auto", f"{kept}/.", str(workspace)], capture_output=True, check=False
            )
        if done.returncode:
            raise SourceMissing(f"the commit could not be copied: {done.stderr.decode('utf-8', 'replace')[-500:]}")

    def _forget(self, newest: str) -> None:
        """Remove the checkouts least recently used, but for those being copied."""
        found = sorted(self._folder.iterdir(), key=lambda f: f.stat().st_mtime)
        for old in found[: max(0, len(found) - _KEPT)]:
            with self._lock:
                making = self._making.get(old.name)
            if old.name != newest and making is not None and making.acquire(blocking=False):
                shutil.rmtree(old, ignore_errors=True)
                making.release()


def fetch(lease: Lease, source: str, workspace: Path, stopped: threading.Event) -> None:
    """Check the lease's commit out into an empty folder. Raises SourceMissing."""
    environment = {
        "PATH": os.environ.get("PATH", "/usr/bin:/bin"), "HOME": "/nonexistent", "GIT_CONFIG_NOSYSTEM": "1",
        "GIT_TERMINAL_PROMPT": "0", "LC_ALL": "C.UTF-8", "GIT_CONFIG_COUNT": "2",
        "GIT_CONFIG_KEY_0": f"http.{source}.extraHeader", "GIT_CONFIG_VALUE_0": f"Authorization: Bearer {lease.token}",
        "GIT_CONFIG_KEY_1": "safe.directory", "GIT_CONFIG_VALUE_1": "*",
    }  # fmt: skip
    wish = lease.source
    depth = [] if wish.full else ["--depth=1"]
    tags = ["+refs/tags/*:refs/tags/*"] if wish.tags else []
    commands = [
        ["init", "--quiet", "--template="],
        ["fetch", "--quiet", *depth, "--no-tags", source, lease.commit, *tags],
        ["-c", "advice.detachedHead=false", "checkout", "--quiet", "--detach", "FETCH_HEAD"],
    ]
    for words in commands:
        _git(words, workspace, environment, stopped)
    if wish.submodules and (workspace / ".gitmodules").exists():
        if lease.address:
            _git(["config", "remote.origin.url", lease.address], workspace, environment, stopped)
        allowed = os.environ.get("MYRIANT_SUBMODULE_PROTOCOLS", _PROTOCOLS)
        words = ["submodule", "--quiet", "update", "--init", "--recursive", *([] if wish.full else ["--depth=1"])]
        _git(words, workspace, environment | {"GIT_ALLOW_PROTOCOL": allowed}, stopped)


def _git(words: list[str], workspace: Path, environment: dict[str, str], stopped: threading.Event) -> None:
    """Run git in the workspace; what reaches for the network is tried again while the other side is away."""
    reaches = words[0] in ("fetch", "submodule")
    for pause in (*_PAUSES, None):
        done = subprocess.run(
            ["git", *words], cwd=workspace, env=environment, capture_output=True, check=False, stdin=subprocess.DEVNULL
        )
        if done.returncode == 0:
            return
        if pause is None or not reaches or stopped.wait(pause):
            said = done.stderr.decode("utf-8", "replace").strip()
            what = "the submodules" if words[0] == "submodule" else "the commit"
            raise SourceMissing(f"{what} could not be fetched: {said[-1000:]}")


def explain_status(status: int, command: str | list[str], folder: Path) -> str:
    """What an exit status by which a shell says that it could not run something means; empty for any other."""
    if status not in (126, 127):
        return ""
    try:
        words = shlex.split(command) if isinstance(command, str) else command
    except ValueError:
        words = re.split(r"\s+", command) if isinstance(command, str) else command
    for word in words:
        path = folder / word
        if "/" in word and not word.startswith("/") and path.is_file() and not path.stat().st_mode & 0o111:
            return f"{word} has no execute permission: git update-index --chmod=+x {shlex.quote(word)}"
    return "a program was found but could not be run" if status == 126 else "a program of the command was not found"
