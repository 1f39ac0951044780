"""One command of an attempt, watched: its output, its time, its memory and its disk."""

from __future__ import annotations

import contextlib
import os
import selectors
import signal
import subprocess
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from myriant.core.written import bytes_text
from myriant.runner.held import Hold

_LOOK = 0.2  # seconds between looks at a process that is silent
DISK_KEPT_FREE = 256 << 20
MOST_DISK = 20 << 30


@dataclass(frozen=True, slots=True)
class Bounds:
    """What a command may take; bytes. `user` owns its processes when the runner is root; `free` was left at first."""

    room: Path
    user: int | None
    free: int
    memory: int | None = None  # None: what the machine can spare
    disk: int = MOST_DISK
    output: int | None = None
    beside: int | None = None  # a process whose descendants count nothing: the porter
    hold: Hold | None = None  # the kernel's own bound on memory; None: it is watched


@dataclass(frozen=True, slots=True)
class Ended:
    """`status` as a shell gives it; `over` says which bound ended it, empty when it ended by itself."""

    status: int
    over: str = ""
    timed_out: bool = False
    disk_full: bool = False  # the machine's, so that what it ended may succeed on another


class Watched:
    """A process in a session of its own, whose end takes all of it along."""

    def __init__(self, command: Sequence[str], environment: Mapping[str, str], folder: Path | None) -> None:
        self.process = subprocess.Popen(
            command,
            env=environment,
            cwd=folder,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            start_new_session=True,
        )

    def kill(self) -> None:
        with contextlib.suppress(ProcessLookupError, PermissionError):
            os.killpg(self.process.pid, signal.SIGKILL)

    def follow(self, say: Callable[[bytes], None], ends: float, bounds: Bounds, stopped: threading.Event) -> Ended:
        """Pass on its output until it ends, its time is over (`ends`, monotonic) or it takes too much."""
        over, timed_out, printed = "", False, 0
        watch = _Watch(bounds, self.process.pid)
        with self.process as process, selectors.DefaultSelector() as ready:
            assert process.stdout is not None
            descriptor = process.stdout.fileno()
            os.set_blocking(descriptor, False)
            ready.register(descriptor, selectors.EVENT_READ)
            while True:
                if not (over or timed_out):
                    timed_out = time.monotonic() >= ends
                    over = watch.look() or (
                        f"it printed more than {bytes_text(bounds.output)}"
                        if bounds.output is not None and printed > bounds.output
                        else ""
                    )
                    if over or timed_out or stopped.is_set():
                        self.kill()
                if ready.select(timeout=_LOOK):
                    data = os.read(descriptor, 1 << 16)
                    if not data:
                        break
                    printed += len(data)
                    say(data)
                elif process.poll() is not None:
                    break  # a child that outlives its step (without a sandbox) keeps the pipe open
            self.kill()
            status = process.wait()
            if bounds.hold is not None and not (over or timed_out or stopped.is_set()):
                over = watch.look_at_memory()
        return Ended(128 - status if status < 0 else status, over, timed_out and not over, watch.disk_full)


class _Watch:
    """Looks now and then whether a command stays within its bounds."""

    def __init__(self, bounds: Bounds, session: int) -> None:
        self.bounds, self.session = bounds, session
        self._memory_at = self._disk_at = self._count_at = 0.0
        self.disk_full = False
        self._killed = bounds.hold.killed() if bounds.hold is not None else 0

    def look(self) -> str:
        """What is exceeded, empty when nothing is."""
        now = time.monotonic()
        if now >= self._memory_at:
            self._memory_at = now + (0.1 if self.bounds.memory is not None else 1.0)
            if over := self.look_at_memory():
                return over
        if now >= self._disk_at:
            self._disk_at = now + 0.5
            return self._look_at_disk(now)
        return ""

    def look_at_memory(self) -> str:
        most = self.bounds.memory if self.bounds.memory is not None else spared()
        if self.bounds.hold is not None:
            over = self.bounds.hold.killed() > self._killed
        else:
            over = _resident(self.bounds, self.session) > most
        return f"it took more than {bytes_text(most)} of memory" if over else ""

    def _look_at_disk(self, now: float) -> str:
        free = free_on(self.bounds.room)
        if free < DISK_KEPT_FREE:
            self.disk_full = True
            return f"the runner's disk is full: {bytes_text(free)} are left"
        if self.bounds.free - free > self.bounds.disk // 2 and now >= self._count_at:
            taken = taken_by(self.bounds.room)
            self._count_at = time.monotonic() + max(1.0, 10 * (time.monotonic() - now))
            if taken > self.bounds.disk:
                return f"its files took more than {bytes_text(self.bounds.disk)}"
        return ""


def spared() -> int:
    """Bytes of memory that one attempt may take when its plan names no limit: four fifths of the machine's."""
    return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES") * 4 // 5


def free_on(folder: Path) -> int:
    found = os.statvfs(folder)
    return found.f_bavail * found.f_frsize


def taken_by(folder: Path) -> int:
    """Bytes on disk of a folder's files; a file that vanishes meanwhile counts nothing."""
    total, folders = 0, [str(folder)]
    while folders:
        try:
            with os.scandir(folders.pop()) as entries:
                for entry in entries:
                    with contextlib.suppress(OSError):
                        total += entry.stat(follow_symlinks=False).st_blocks * 512
                    if entry.is_dir(follow_symlinks=False):
                        folders.append(entry.path)
        except OSError:
            continue
    return total


def _resident(bounds: Bounds, session: int) -> int:
    """Resident bytes of an attempt's processes: those of its user, or of the session without one."""
    page = os.sysconf("SC_PAGE_SIZE")
    total = 0
    for pid, entry in _processes():
        try:
            if bounds.user is not None:
                if entry.stat().st_uid != bounds.user or (bounds.beside and _descends(pid, bounds.beside)):
                    continue
            elif not _descends(pid, session):
                continue
            total += int((entry / "statm").read_text().split()[1]) * page
        except (OSError, ValueError, IndexError):
            continue
    return total


def _processes() -> Iterator[tuple[int, Path]]:
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            yield int(entry.name), entry


def _descends(pid: int, ancestor: int) -> bool:
    while pid > 1:
        if pid == ancestor:
            return True
        pid = int((Path("/proc") / str(pid) / "stat").read_text().rsplit(")", 1)[1].split()[1])
    return False
