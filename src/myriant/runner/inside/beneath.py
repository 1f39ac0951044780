"""Opening below a folder: never through a link, never out of it, never what is no regular file."""

from __future__ import annotations

import contextlib
import ctypes
import errno
import os
import stat

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

MOST_ENTRIES = 1_000_000  # looked at in one walk
MOST_DEPTH = 200  # folders within folders; a descriptor each
_MOST_SHUT = 1000  # folders that stay closed and are told
_OPENAT2 = 437
_RESOLVE = 0x02 | 0x04 | 0x08  # no magic links, no links, beneath
_libc = ctypes.CDLL(None, use_errno=True)
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_READ = os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW | os.O_NOCTTY | os.O_CLOEXEC


class _How(ctypes.Structure):
    """struct open_how of linux/openat2.h."""

    _fields_ = (("flags", ctypes.c_uint64), ("mode", ctypes.c_uint64), ("resolve", ctypes.c_uint64))


def parts_of(path: str) -> list[str]:
    """The names of a relative path. Raises OSError for one that leads elsewhere."""
    parts = [p for p in path.split("/") if p not in ("", ".")]
    if path.startswith("/") or ".." in parts or "\0" in path or not parts:
        raise OSError(errno.EXDEV, "leads out of its folder", path)
    return parts


def open_beneath(top: int, path: str, flags: int, mode: int = 0) -> int:
    """A descriptor for a path below an open folder. Raises OSError when a link stands on the way."""
    parts = parts_of(path)
    how = _How(flags | os.O_CLOEXEC, mode if flags & os.O_CREAT else 0, _RESOLVE)
    name = os.fsencode("/".join(parts))
    for _ in range(8):
        found = int(_libc.syscall(_OPENAT2, top, name, ctypes.byref(how), ctypes.sizeof(how)))
        if found >= 0:
            return found
        code = ctypes.get_errno()
        if code in (errno.ENOSYS, errno.EPERM):
            return open_by_parts(top, parts, flags, mode)
        if code != errno.EAGAIN:  # something was renamed meanwhile
            raise OSError(code, os.strerror(code), path)
    raise OSError(errno.EAGAIN, "it changes all the time", path)


def open_by_parts(top: int, parts: list[str], flags: int, mode: int = 0) -> int:
    """The same name by name, for kernels that know no openat2."""
    folder = os.dup(top)
    try:
        for name in parts[:-1]:
            deeper = os.open(name, _FOLDER, dir_fd=folder)
            os.close(folder)
            folder = deeper
        return os.open(parts[-1], flags | os.O_NOFOLLOW | os.O_CLOEXEC, mode, dir_fd=folder)
    finally:
        os.close(folder)


def make_folders(top: int, names: list[str]) -> int:
    """A descriptor for a folder below one, made where it is missing. Raises OSError when a link stands on the way."""
    here = os.dup(top)
    for name in names:
        try:
            with contextlib.suppress(FileExistsError):
                os.mkdir(name, 0o755, dir_fd=here)
            deeper = open_beneath(here, name, os.O_RDONLY | os.O_DIRECTORY)
        finally:
            os.close(here)
        here = deeper
    return here


def open_folder(path: str) -> int:
    """The top of all: a folder that the runner names."""
    return os.open(path, _FOLDER)


def open_regular(top: int, path: str) -> tuple[int, os.stat_result]:
    """A regular file below a folder, for reading. Raises OSError for anything else; nothing waits for a writer."""
    file = open_beneath(top, path, _READ)
    status = os.fstat(file)
    if not stat.S_ISREG(status.st_mode):
        os.close(file)
        raise OSError(errno.EINVAL, "no regular file", path)
    return file, status


def read_small(top: int, path: str, most: int) -> bytes:
    """The first bytes of a regular file. Raises OSError."""
    file, _ = open_regular(top, path)
    with os.fdopen(file, "rb") as source:
        return source.read(most)


class Entry:
    """What stands in a folder: its path relative to the top, and its status."""

    __slots__ = ("path", "status")

    def __init__(self, path: str, status: os.stat_result) -> None:
        self.path, self.status = path, status

    @property
    def mode(self) -> int:
        return self.status.st_mode


def walk(top: int, enter: Callable[[str], bool] = lambda path: True, shut: list[str] | None = None) -> Iterator[Entry]:
    """Everything below a folder but the repository's own `.git`: a folder's files first, then its folders, by name.

    Links are told and not followed; folders that cannot be entered, or lie too deep, are told and stay closed: their
    paths are added to `shut`, an empty one when there are more entries than are looked at.
    """
    looked = 0
    open_ones: list[tuple[int, str, list[str] | None]] = [(os.dup(top), "", None)]  # folder, path, what is to enter
    try:
        while open_ones:
            folder, at, names = open_ones[-1]
            if names is None:
                names = []
                open_ones[-1] = (folder, at, names)
                for entry in _listed(folder, at):
                    looked += 1
                    if looked > MOST_ENTRIES:
                        _note(shut, "")
                        return
                    if not stat.S_ISDIR(entry.mode):
                        yield entry
                    elif entry.path != ".git":
                        names.append(entry.path[len(at) :])
                names.sort(reverse=True)
            if not names:
                os.close(folder)
                open_ones.pop()
                continue
            name = names.pop()
            try:
                yield Entry(at + name, os.stat(name, dir_fd=folder, follow_symlinks=False))
                if not enter(at + name):
                    continue
                if len(open_ones) > MOST_DEPTH:
                    _note(shut, at + name)
                else:
                    open_ones.append((os.open(name, _FOLDER, dir_fd=folder), f"{at}{name}/", None))
            except FileNotFoundError:
                continue
            except OSError:
                _note(shut, at + name)
    finally:
        for folder, _, _ in open_ones:
            os.close(folder)


def _note(shut: list[str] | None, path: str) -> None:
    if shut is not None and len(shut) < _MOST_SHUT:
        shut.append(path)


def _listed(descriptor: int, at: str) -> list[Entry]:
    found = []
    with os.scandir(descriptor) as entries:
        for entry in entries:
            try:
                found.append(Entry(at + entry.name, entry.stat(follow_symlinks=False)))
            except OSError:
                continue
    return sorted(found, key=lambda e: e.path)
