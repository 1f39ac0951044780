"""Isolation: each step in a bubblewrap sandbox, or, with a warning, in a plain process group."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from myriant.runner.filter import program
from myriant.runner.network import OwnNetwork

FIRST_USER = 61000  # each slot has a user of its own, so that limits and leftovers cannot mix
MOST_PROCESSES = 2048
_SHOWN = (
    "alternatives",
    "ca-certificates",
    "ca-certificates.conf",
    "hosts",
    "host.conf",
    "ld.so.cache",
    "ld.so.conf",
    "ld.so.conf.d",
    "localtime",
    "mime.types",
    "nsswitch.conf",
    "protocols",
    "resolv.conf",
    "services",
    "ssl",
    "timezone",
)
WORKSPACE = "/workspace"
SHARED_MEMORY = 1 << 30  # bytes of /dev/shm, for each command
_FILTERED = ("/bin/sh", "-c", 'exec 9<"$0" "$@"')  # bubblewrap reads its filter from a descriptor


@dataclass(frozen=True, slots=True)
class Sandbox:
    """How this machine isolates: `kind` in a few words, `warning` when it is less than it should be."""

    bubblewrap: bool
    root: bool
    warning: str = ""
    outward: bool = False  # whether an attempt can have a network of its own that leads outward

    @property
    def kind(self) -> str:
        return "bubblewrap" if self.bubblewrap else "process groups only"

    def command(
        self,
        inner: Sequence[str],
        *,
        room: Room,
        environment: Mapping[str, str],
        folder: str = "",
        network: bool = True,
        net: int | None = None,
        memory: int | None = None,
        processes: int | None = None,
        file_size: int | None = None,
    ) -> tuple[list[str], dict[str, str], Path | None]:
        """The command, environment and folder for running `inner` in an attempt's room.

        `net` is a process whose network it joins (root only). Limits are the kernel's own: processes of the
        attempt's user, bytes of one file, and, as the last resort, bytes of data of one process.
        """
        if not self.bubblewrap:
            return (
                list(inner),
                {**environment, "HOME": str(room.home), "TMPDIR": str(room.tmp)},
                room.workspace / folder,
            )
        limits = ["prlimit", f"--nproc={processes or MOST_PROCESSES}", "--core=0"]
        limits += [f"--data={memory * 4}"] if memory else []
        limits += [f"--fsize={file_size}"] if file_size else []
        limits.append("--")
        if self.root:
            user = str(room.user)
            limits += [
                "setpriv",
                "--reuid",
                user,
                "--regid",
                user,
                "--clear-groups",
                "--bounding-set=-all",
                "--inh-caps=-all",
                "--no-new-privs",
                "--",
            ]
        joined = ["nsenter", f"--net=/proc/{net}/ns/net", "--"] if net is not None else []
        walls = self._walls(room, folder, network or net is not None)
        return [*joined, *walls, *limits, *inner], dict(environment), None

    @staticmethod
    def _filtered(room: Room) -> list[str]:
        file = room.etc / "filter"
        known = file.is_file() and file.stat().st_size
        return [*_FILTERED, str(file), "bwrap", "--seccomp", "9"] if known else ["bwrap"]

    def _walls(self, room: Room, folder: str, network: bool) -> list[str]:
        words = [
            *self._filtered(room),
            "--unshare-pid",
            "--unshare-ipc",
            "--unshare-uts",
            "--hostname",
            "cell",
            "--die-with-parent",
            "--new-session",
            "--proc",
            "/proc",
            "--dev",
            "/dev",
            "--size",
            str(SHARED_MEMORY),
            "--perms",
            "1777",  # bubblewrap's own belongs to root: locks and queues of several processes lie there
            "--tmpfs",
            "/dev/shm",  # the cell's own
            "--perms",
            "0755",
            "--dir",
            "/etc",
            "--ro-bind",
            "/usr",
            "/usr",
        ]
        if not network:
            words.append("--unshare-net")
        if not self.root:
            words += ["--unshare-user", "--uid", str(room.user), "--gid", str(room.user)]
        for name in ("bin", "sbin", "lib", "lib32", "lib64", "libx32"):
            path = Path("/") / name
            if path.is_symlink():
                words += ["--symlink", str(path.readlink()), str(path)]
            elif path.exists():
                words += ["--ro-bind", str(path), str(path)]
        for name in _SHOWN:
            words += ["--ro-bind-try", f"/etc/{name}", f"/etc/{name}"]
        words += [
            "--ro-bind",
            str(room.etc / "passwd"),
            "/etc/passwd",
            "--ro-bind",
            str(room.etc / "group"),
            "/etc/group",
        ]
        if (room.etc / "resolv.conf").exists():
            words += ["--ro-bind", str(room.etc / "resolv.conf"), "/etc/resolv.conf"]
        words += ["--bind", str(room.tmp), "/tmp"]  # before what is shown, which may lie below them
        words += ["--perms", "0755", "--dir", "/home", "--bind", str(room.home), "/home/cell"]
        shown: set[Path] = set()
        for path in room.shown:
            for parent in reversed(path.parents[:-1]):
                if parent not in shown:
                    words += ["--perms", "0755", "--dir", str(parent)]
                    shown.add(parent)
            words += ["--ro-bind", str(path), str(path)]
        words += ["--perms", "0755", "--dir", "/run", "--ro-bind", str(room.links), "/run/runtime"]
        words += ["--ro-bind", str(room.handed), "/run/from", "--ro-bind", str(room.given), "/run/given"]
        return [*words, "--bind", str(room.workspace), WORKSPACE, "--chdir", f"{WORKSPACE}/{folder}".rstrip("/")]


@dataclass(frozen=True, slots=True)
class Room:
    """The folders of one attempt; all go when it ends."""

    base: Path
    user: int
    shown: tuple[Path, ...] = ()  # runtimes outside /usr, seen read-only at their own path

    @property
    def workspace(self) -> Path:
        return self.base / "workspace"

    @property
    def tmp(self) -> Path:
        return self.base / "tmp"

    @property
    def home(self) -> Path:
        return self.base / "home"

    @property
    def links(self) -> Path:
        return self.base / "links"

    @property
    def etc(self) -> Path:
        return self.base / "etc"

    @property
    def handed(self) -> Path:
        return self.base / "from"

    @property
    def given(self) -> Path:
        """What the runner gives to the steps; they only read it."""
        return self.base / "given"

    def give(self, name: str, text: str) -> str:
        """Put a file where steps can read it and cannot write; its path inside the walls."""
        file = self.given / name
        file.write_text(text, encoding="utf-8", errors="replace")
        file.chmod(0o644)
        return f"/run/given/{name}"

    def make(self) -> None:
        for folder in (self.workspace, self.tmp, self.home, self.links, self.etc, self.handed, self.given):
            folder.mkdir(parents=True)
        self.base.chmod(0o700)  # nobody else on this machine reads along
        entry = f"cell:x:{self.user}:{self.user}:cell:/home/cell:/bin/sh\nroot:x:0:0:root:/root:/bin/sh\n"
        (self.etc / "passwd").write_text(entry)
        (self.etc / "group").write_text(f"cell:x:{self.user}:\nroot:x:0:\n")
        (self.etc / "filter").write_bytes(program())

    def give_to_user(self) -> None:
        """Hand the writable folders to the attempt's user (root only), before any step has run."""
        if os.geteuid() == 0:
            owner = f"{self.user}:{self.user}"
            tops = [str(top) for top in (self.workspace, self.tmp, self.home)]
            subprocess.run(["chown", "-hRP", owner, *tops], check=True, capture_output=True)
            os.chown(self.base, self.user, self.user)


def find_sandbox(scratch: Path) -> Sandbox:
    """Try what this machine can do, with the very walls that steps get."""
    root = os.geteuid() == 0
    if shutil.which("bwrap") is None:
        return Sandbox(
            False,
            root,
            "bubblewrap is not installed: steps are not isolated from this machine (apt-get install bubblewrap)",
        )
    room = Room(scratch / "try", FIRST_USER)
    shutil.rmtree(room.base, ignore_errors=True)
    room.make()
    room.give_to_user()
    sandbox = Sandbox(True, root)
    command, environment, _ = sandbox.command(["true"], room=room, environment={"PATH": "/usr/bin:/bin"})
    try:
        done = subprocess.run(command, env=environment, capture_output=True, timeout=20, check=False)
        said = done.stderr.decode("utf-8", "replace").strip()
        if done.returncode != 0:
            return Sandbox(
                False, root, f"bubblewrap does not work here, steps are not isolated from this machine: {said}"
            )
        return _with_network(sandbox, room)
    except (OSError, subprocess.TimeoutExpired) as error:
        return Sandbox(False, root, f"bubblewrap does not work here, steps are not isolated from this machine: {error}")
    finally:
        shutil.rmtree(room.base, ignore_errors=True)


def _with_network(sandbox: Sandbox, room: Room) -> Sandbox:
    if not sandbox.root:
        return replace(sandbox, warning="steps share this machine's network: only root gives them one of their own")
    try:
        OwnNetwork(room.etc, outward=True).end()
    except OSError as error:
        return replace(sandbox, warning=f"steps share this machine's network: {error}")
    return replace(sandbox, outward=True)
