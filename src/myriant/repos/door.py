"""Repositories on this machine, touched with the rights of whoever owns them.

`myriant up` as root gives the server a user of its own, which can read no one else's repository and write no hook. A
process of root beside it, the door, serves a repository as its owner would: git's own upload-pack and receive-pack,
and our hook, each in a process that first gives root up for the owner. What is asked never names a command, and who
asks is known by the kernel (SO_PEERCRED, unix(7)). Without a door all is done with the rights that one has.
"""

from __future__ import annotations

import json
import os
import shlex
import signal
import socket
import struct
import subprocess
import sys
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from myriant.repos.git import clean_environment
from myriant.repos.hook import install_hook, remove_hook, try_hook
from myriant.settings import settings

PLACE = "MYRIANT_DOOR"
_MOST = 1 << 16
_PROGRAMS = ("upload-pack", "receive-pack")
_NOBODY = 65534
_HERE = Path()  # the repository, once it is entered
_CLIENT = Path(__file__).with_name("through_door.py")


@dataclass(frozen=True, slots=True)
class Seen:
    """A folder as its owner sees it."""

    path: str  # whole, without links; empty: there is none
    bare: bool = False
    hookable: bool = False


def look(path: Path) -> Seen:
    """What there is at a path of this machine."""
    return Seen(**asked) if (asked := _ask(op="look", repository=str(path))) is not None else _look(path)


def install(repository: Path, *, project: str, host: str, port: int, token: str, python: str) -> bool:
    """As hook.install_hook, with the owner's rights. Raises OSError."""
    wish = {"project": project, "host": host, "port": port, "token": token, "python": python}
    asked = _ask(op="install", repository=str(repository), **wish)
    return bool(asked["chained"]) if asked is not None else install_hook(repository, **wish)  # type: ignore[arg-type]


def remove(repository: Path, project: str) -> None:
    """As hook.remove_hook, with the owner's rights. Raises OSError."""
    if _ask(op="remove", repository=str(repository), project=project) is None:
        remove_hook(repository, project)


def ring(repository: Path) -> str:
    """As hook.try_hook: as each kind of user who may push. Raises OSError."""
    asked = _ask(op="ring", repository=str(repository))
    return str(asked["trouble"]) if asked is not None else try_hook(repository)


def served_by(program: str) -> str:
    """The command by which git reaches a repository on this machine through the door, empty without one."""
    place = settings().door
    return shlex.join([sys.executable, "-I", "-S", str(_CLIENT), place, program]) if place else ""


def _ask(**wish: Any) -> dict[str, Any] | None:
    """What the door answers, None without one. Raises OSError, also with what went wrong behind it."""
    place = settings().door
    if not place:
        return None
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as line:
        line.settimeout(120)
        folder = os.open(Path(place).parent, os.O_PATH | os.O_DIRECTORY)
        try:
            line.connect(f"/proc/self/fd/{folder}/{Path(place).name}")  # an address may have 107 characters only
        finally:
            os.close(folder)
        line.send(json.dumps(wish).encode())
        answer: dict[str, Any] = json.loads(line.recv(_MOST) or b'{"errno": 5, "error": "the door closed"}')
    if "errno" in answer:
        raise OSError(answer["errno"], answer["error"])
    return answer


def keep_door(place: Path, user: int) -> None:
    """Answer at a socket that only root and one user can reach, for ever; each question in a process of its own."""
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # what has answered is forgotten at once
    with socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET) as door:
        place.unlink(missing_ok=True)
        os.chdir(place.parent)
        door.bind(place.name)
        place.chmod(0o600)
        os.chown(place, user, -1)
        door.listen(128)
        while True:
            line, _ = door.accept()
            if os.fork() == 0:
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                door.close()
                try:
                    _answer(line, user)
                finally:
                    os._exit(0)
            line.close()


def _answer(line: socket.socket, user: int) -> None:
    _, uid, _ = struct.unpack("3i", line.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, 12))
    if uid not in (0, user):
        return
    line.settimeout(10)
    message, files, _, _ = socket.recv_fds(line, _MOST, 3)
    try:
        said = _carried_out(json.loads(message), files)
    except OSError as error:
        said = {"errno": error.errno or 5, "error": error.strerror or str(error)}
    except (ValueError, KeyError, TypeError) as error:
        said = {"errno": 22, "error": f"not understood: {error!r}"}
    line.send(json.dumps(said).encode())


def _carried_out(wish: Mapping[str, Any], files: list[int]) -> dict[str, Any]:
    """One question. Raises OSError, ValueError, KeyError."""
    repository = Path(str(wish["repository"]))
    if not repository.is_absolute():
        raise ValueError("a path of this machine begins with /")
    match wish["op"]:
        case "look":
            seen = _look(repository)
            return {"path": seen.path, "bare": seen.bare, "hookable": seen.hookable}
        case "serve" if wish["program"] in _PROGRAMS and len(files) == 3:
            return {"status": _serve(str(wish["program"]), repository, files)}
        case "install":
            _become(*_entered(repository))
            keys = {"project": str, "host": str, "port": int, "token": str, "python": str}
            return {"chained": install_hook(_HERE, **{k: kind(wish[k]) for k, kind in keys.items()})}
        case "remove":
            _become(*_entered(repository))
            remove_hook(_HERE, str(wish["project"]))
            return {}
        case "ring":
            _entered(repository)
            return {"trouble": try_hook(_HERE)}
    raise ValueError(f"no question {wish['op']!r}")


def _serve(program: str, repository: Path, files: list[int]) -> int:
    """Let git serve a repository over three open files, as its owner; its exit status."""
    try:
        (user, group), there = _entered(repository), "."
    except OSError:  # git says what is wrong with it, as somebody who can do nothing
        (user, group), there = (_NOBODY, _NOBODY), str(repository)
    done = subprocess.run(
        [
            "setpriv",
            "--reuid",
            str(user),
            "--regid",
            str(group),
            "--clear-groups",
            "--no-new-privs",
            "--pdeathsig",
            "TERM",
            "--",
            "git",
            program,
            there,
        ],
        stdin=files[0],
        stdout=files[1],
        stderr=files[2],
        env=clean_environment(),
        check=False,
    )
    return done.returncode


def _entered(repository: Path) -> tuple[int, int]:
    """Go into a repository and say who owns it: whatever its path comes to mean meanwhile, it is this one that is
    worked on. Raises OSError when there is none.
    """
    other = repository.with_name(f"{repository.name}.git")  # git looks at both
    folder = os.open(repository if repository.is_dir() else other, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fchdir(folder)
        status = os.fstat(folder)
    finally:
        os.close(folder)
    return status.st_uid, status.st_gid


def _become(user: int, group: int) -> None:
    """Give up root for somebody, for good."""
    os.setgroups([])
    os.setresgid(group, group, group)
    os.setresuid(user, user, user)


def _look(path: Path) -> Seen:
    try:
        path = path.resolve()
        if not path.is_dir():
            return Seen("")
        bare = is_bare(path)
        hooks = path / "hooks"
        return Seen(str(path), bare, bare and os.access(hooks if hooks.exists() else path, os.W_OK))
    except (OSError, ValueError, RuntimeError):
        return Seen("")


def is_bare(path: Path) -> bool:
    """By its files: nothing that its owner wrote into its configuration is carried out."""
    return (path / "HEAD").is_file() and (path / "objects").is_dir() and (path / "refs").is_dir()
