"""Emptying a folder of whatever steps left: any depth, any name, any mode, two descriptors."""

from __future__ import annotations

import os
import stat

from myriant.runner.inside.beneath import open_folder


def clear(path: str) -> int:
    """Remove everything in a folder; how many entries could not be.

    A folder found within another is moved to the top before it is emptied itself: so nothing ever lies deep.
    """
    top = open_folder(path)
    try:
        left, moved = 0, 0
        waiting = os.listdir(top)  # noqa: PTH208  # a descriptor
        while waiting:
            name = waiting.pop()
            folder = _opened(top, name)
            if folder is None:
                left += not _unlinked(top, name)
                continue
            try:
                for inner in os.listdir(folder):  # noqa: PTH208  # a descriptor
                    if _unlinked(folder, inner):
                        continue
                    moved += 1
                    to = f".removed-{os.getpid()}-{moved}"
                    try:
                        _enter(folder, inner)
                        os.rename(inner, to, src_dir_fd=folder, dst_dir_fd=top)
                        waiting.append(to)
                    except OSError:
                        left += 1
            finally:
                os.close(folder)
            try:
                os.rmdir(name, dir_fd=top)
            except OSError:
                left += 1
        return left
    finally:
        os.close(top)


def _opened(top: int, name: str) -> int | None:
    """A folder, made enterable; None for what is no folder."""
    try:
        if not stat.S_ISDIR(os.stat(name, dir_fd=top, follow_symlinks=False).st_mode):
            return None
        _enter(top, name)
        return os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=top)
    except OSError:
        return None


def _enter(folder: int, name: str) -> None:
    """Let its owner into a folder. By O_PATH and /proc, so that no link is followed."""
    held = os.open(name, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
    try:
        status = os.fstat(held)
        if stat.S_ISDIR(status.st_mode) and status.st_mode & 0o700 != 0o700:
            os.chmod(f"/proc/self/fd/{held}", 0o700)  # noqa: PTH101  # a descriptor
    finally:
        os.close(held)


def _unlinked(folder: int, name: str) -> bool:
    try:
        os.unlink(name, dir_fd=folder)
    except OSError:
        return False
    return True
