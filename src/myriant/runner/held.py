"""Processes of an attempt held together by the kernel's control groups: memory, and how many there are.

Version 2 where its controllers are there, else version 1; where neither can be written, the runner watches by itself.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import signal
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

ROOT = Path("/sys/fs/cgroup")
_OWN = Path("/proc/self/cgroup")
_NAME = "myriant"
_REMOVED_WITHIN = 5.0
_ENTER = (
    'n=$1; shift; while [ "$n" -gt 0 ]; do echo $$ > "$1/cgroup.procs" || exit 125; shift; n=$((n-1)); done; exec "$@"'
)


def name_of(work: Path) -> str:
    """What the groups of a runner begin with: one machine may have several."""
    return hashlib.blake2b(str(work.absolute()).encode(), digest_size=4).hexdigest()


@dataclass(frozen=True, slots=True)
class Hold:
    """The groups of one attempt, `memory` among them; everything that is started in them stays there."""

    folders: tuple[Path, ...]
    memory: Path
    version: int

    def within(self, command: Sequence[str]) -> list[str]:
        """The command that begins in these groups; it does not begin outside of them."""
        return ["/bin/sh", "-c", _ENTER, "hold", str(len(self.folders)), *map(str, self.folders), *command]

    def killed(self) -> int:
        """How many of its processes the kernel has ended because there was no memory left for them."""
        file = self.memory / ("memory.events" if self.version == 2 else "memory.oom_control")
        with contextlib.suppress(OSError):
            for line in file.read_text().splitlines():
                if line.startswith("oom_kill "):
                    return int(line.split()[1])
        return 0

    def end(self) -> None:
        """End what is left in the groups, and remove them; one that cannot be removed stays, and is taken up at the
        next start of a runner.
        """
        until = time.monotonic() + _REMOVED_WITHIN
        for folder in self.folders:
            while folder.is_dir():
                with contextlib.suppress(OSError, ValueError):
                    for pid in (folder / "cgroup.procs").read_text().split():
                        os.kill(int(pid), signal.SIGKILL)
                with contextlib.suppress(OSError):
                    folder.rmdir()
                    break
                if time.monotonic() > until:
                    break
                time.sleep(0.01)


def hold(name: str, memory: int, processes: int, root: Path = ROOT, own: Path = _OWN) -> Hold | None:
    """Groups for an attempt, with their limits set; None where this runner may not make any."""
    try:
        places = _places(root, own)
        version = 2 if len(set(places.values())) == 1 else 1
        folders = {place / f"{_NAME}-{name}" for place in places.values()}
        for folder in folders:
            folder.mkdir(exist_ok=True)
        kept = Hold(tuple(sorted(folders)), places["memory"] / f"{_NAME}-{name}", version)
        try:
            _limit(kept, places["pids"] / f"{_NAME}-{name}", memory, processes)
        except OSError:
            kept.end()
            return None
        return kept
    except (OSError, LookupError, ValueError):
        return None


def clear(name: str, root: Path = ROOT, own: Path = _OWN) -> None:
    """End what a runner of this name that was killed has left in its groups."""
    with contextlib.suppress(OSError, LookupError, ValueError):
        for place in dict.fromkeys(_places(root, own).values()):
            for folder in place.glob(f"{_NAME}-{name}-*"):
                Hold((folder,), folder, 1).end()


def _limit(kept: Hold, pids: Path, memory: int, processes: int) -> None:
    if kept.version == 2:
        (kept.memory / "memory.max").write_text(str(memory))
        with contextlib.suppress(OSError):  # without swap there is no such file
            (kept.memory / "memory.swap.max").write_text("0")
    else:
        (kept.memory / "memory.limit_in_bytes").write_text(str(memory))
        with contextlib.suppress(OSError):
            (kept.memory / "memory.memsw.limit_in_bytes").write_text(str(memory))
    (pids / "pids.max").write_text(str(processes))


def _places(root: Path, own: Path) -> dict[str, Path]:
    """Where this process may make groups, by controller. Raises OSError, LookupError, ValueError."""
    rows = [line.split(":", 2) for line in own.read_text().splitlines()]
    mine = {controller: path for _, controllers, path in rows for controller in controllers.split(",")}
    found: dict[str, Path] = {
        controller: (root / controller) / mine[controller].lstrip("/")
        for controller in ("memory", "pids")
        if controller in mine and (root / controller / "cgroup.procs").exists()
    }
    if len(found) == 2:
        return found
    place = root / mine[""].lstrip("/")
    have = (place / "cgroup.controllers").read_text().split()
    if not {"memory", "pids"} <= set(have):
        raise LookupError("the controllers are not there")
    if not {"memory", "pids"} <= set((place / "cgroup.subtree_control").read_text().split()):
        # a group with processes of its own passes no controller on: the runner goes into one beside those of attempts
        beside = place / f"{_NAME}-runner"
        beside.mkdir(exist_ok=True)
        for pid in (place / "cgroup.procs").read_text().split():
            (beside / "cgroup.procs").write_text(pid)
        (place / "cgroup.subtree_control").write_text("+memory +pids")
    return {"memory": place, "pids": place}
