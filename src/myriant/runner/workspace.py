"""The workspace: the exact commit, fetched from the server's mirror with the lease's own credential."""

from __future__ import annotations

import contextlib
import hashlib
import os
import re
import shlex
import tempfile
import threading
import time
from dataclasses import replace
from pathlib import Path

from myriant.runner.inside.clear import clear
from myriant.runner.process import MOST_DISK, Bounds, Watched, free_on
from myriant.runner.sandbox import FIRST_USER, WORKSPACE, Room, Sandbox
from myriant.settings import settings
from myriant.wire.lease import Lease

_PAUSES = (0.5, 1.0, 2.0, 4.0, 8.0)  # seconds between tries while the server is away
_PROTOCOLS = "https:http:ssh:git"
_FETCHER = FIRST_USER - 1  # the user that fetches; no step is ever this one
_LONGEST = 1800.0  # seconds of one call of git
_KEPT = 6  # checkouts that are kept for the next cells


class SourceMissing(Exception):
    """The commit cannot be had; the text says why."""


class Checkouts:
    """Fresh checkouts kept by commit while the runner lives: the cells of a run fetch it once and copy it.

    They lie beside the rooms, where no step can see or change them. They are fetched and copied inside walls.
    """

    def __init__(self, folder: Path, sandbox: Sandbox) -> None:
        self._folder, self._sandbox = folder, sandbox
        self._lock = threading.Lock()
        self._making: dict[str, threading.Lock] = {}

    def fill(self, lease: Lease, source: str, room: Room, stopped: threading.Event) -> None:
        """Put the lease's commit into a room's empty workspace, as the room's user. Raises SourceMissing."""
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
                    self._fetch(lease, source, part, kept, stopped)
                finally:
                    _remove(part)
                self._forget(name)
            os.utime(kept)
            seen = replace(room, shown=tuple(dict.fromkeys((*room.shown, kept.resolve()))))
            top = WORKSPACE if self._sandbox.bubblewrap else str(room.workspace)
            words = ["cp", "-a", "--reflink=auto", "--no-preserve=ownership", f"{kept.resolve()}/.", top]
            ended, said = _inside(self._sandbox, seen, words, {"PATH": "/usr/bin:/bin"}, stopped)
        if ended:
            raise SourceMissing(f"the commit could not be copied: {said[-500:]}")

    def _fetch(self, lease: Lease, source: str, part: Path, kept: Path, stopped: threading.Event) -> None:
        part.chmod(0o755)
        folders = settings().submodule_folders if lease.source.submodules else ""
        shown = tuple(Path(f).resolve() for f in folders.split(":") if f)
        room = Room(part / "room", _FETCHER, shown)
        room.make()
        room.give_to_user()
        fetch(lease, source, self._sandbox, room, stopped)
        room.workspace.chmod(0o755)
        room.workspace.rename(kept)

    def _forget(self, newest: str) -> None:
        """Remove the checkouts least recently used, but for those being copied."""
        found = sorted(self._folder.iterdir(), key=lambda f: f.stat().st_mtime)
        for old in found[: max(0, len(found) - _KEPT)]:
            with self._lock:
                making = self._making.get(old.name)
            if old.name != newest and making is not None and making.acquire(blocking=False):
                _remove(old)
                making.release()


def _remove(folder: Path) -> None:
    with contextlib.suppress(OSError):
        clear(str(folder))
        folder.rmdir()


# Whoever owns what an operator lets it see; and what lives for an attempt is not tidied.
_GIT_CONFIG = "[safe]\n\tdirectory = *\n[maintenance]\n\tauto = false\n[gc]\n\tauto = 0\n"


def fetch(lease: Lease, source: str, sandbox: Sandbox, room: Room, stopped: threading.Event) -> None:
    """Check the lease's commit out into a room's empty workspace. Raises SourceMissing."""
    given = room.give("gitconfig", _GIT_CONFIG)
    environment = {
        "PATH": "/usr/local/bin:/usr/bin:/bin",
        "HOME": "/nonexistent",
        "GIT_CONFIG_NOSYSTEM": "1",
        "GIT_TERMINAL_PROMPT": "0",
        "LC_ALL": "C.UTF-8",
        "GIT_CONFIG_COUNT": "1",
        "GIT_CONFIG_KEY_0": f"http.{source}.extraHeader",
        "GIT_CONFIG_VALUE_0": f"Authorization: Bearer {lease.token}",
        "GIT_CONFIG_GLOBAL": given if sandbox.bubblewrap else str(room.given / "gitconfig"),
    }
    wish = lease.source
    depth = [] if wish.full else ["--depth=1"]
    tags = ["+refs/tags/*:refs/tags/*"] if wish.tags else []
    commands = [
        ["init", "--quiet", "--template="],
        ["fetch", "--quiet", *depth, "--no-tags", source, lease.commit, *tags],
        ["-c", "advice.detachedHead=false", "checkout", "--quiet", "--detach", "FETCH_HEAD"],
    ]
    for words in commands:
        _git(words, sandbox, room, environment, stopped)
    if wish.submodules and (room.workspace / ".gitmodules").is_file():
        if lease.address:
            _git(["config", "remote.origin.url", lease.address], sandbox, room, environment, stopped)
        allowed = f"{_PROTOCOLS}:file" if room.shown else _PROTOCOLS
        words = ["submodule", "--quiet", "update", "--init", "--recursive", *([] if wish.full else ["--depth=1"])]
        _git(words, sandbox, room, environment | {"GIT_ALLOW_PROTOCOL": allowed}, stopped)


def _git(words: list[str], sandbox: Sandbox, room: Room, environment: dict[str, str], stopped: threading.Event) -> None:
    """Run git in the workspace; what reaches for the network is tried again while the other side is away."""
    reaches = words[0] in ("fetch", "submodule")
    for pause in (*_PAUSES, None):
        ended, said = _inside(sandbox, room, ["git", *words], environment, stopped)
        if not ended:
            return
        if pause is None or not reaches or stopped.wait(pause):
            what = "the submodules" if words[0] == "submodule" else "the commit"
            raise SourceMissing(f"{what} could not be fetched: {said[-1000:]}")


def _inside(
    sandbox: Sandbox, room: Room, words: list[str], environment: dict[str, str], stopped: threading.Event
) -> tuple[int, str]:
    """Run a command inside a room's walls; its exit status and what it said."""
    said = b""

    def hear(data: bytes) -> None:
        nonlocal said
        said = (said + data)[-8000:]

    command = sandbox.command(words, room=room, environment=environment, file_size=MOST_DISK)
    user = room.user if sandbox.root and sandbox.bubblewrap else None
    bounds = Bounds(room.base, user, free_on(room.base))
    ended = Watched(*command).follow(hear, time.monotonic() + _LONGEST, bounds, stopped)
    why = ended.over or ("it took too long" if ended.timed_out else "")
    return ended.status or (1 if why else 0), why or said.decode("utf-8", "replace").strip()


_PIECES = re.compile(r"&&|\|\||[;|&\n]|\bthen\b|\bdo\b|\belse\b")


def explain_status(status: int, command: str | list[str], folder: Path) -> str:
    """What an exit status by which a shell says that it could not run something means; empty for any other.

    Only what stands where a program is named can be what was not to be run: `lua test/run.lua` runs lua.
    """
    if status == 127:
        return "a program of the command was not found"
    if status != 126:
        return ""
    for word in [command[0]] if isinstance(command, list) else _programs(command):
        path = folder / word
        if "/" in word and not word.startswith("/") and path.is_file() and not path.stat().st_mode & 0o111:
            return f"{word} has no execute permission: git update-index --chmod=+x {shlex.quote(word)}"
    return "a program was found but could not be run"


def _programs(command: str) -> list[str]:
    """The first word of each piece of a command, after the variables that it sets."""
    found = []
    for piece in _PIECES.split(command):
        try:
            words = shlex.split(piece)
        except ValueError:
            words = piece.split()
        found += [w for w in words if not re.match(r"\w+=", w)][:1]
    return found
