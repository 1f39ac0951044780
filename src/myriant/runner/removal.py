"""Rooms are removed, by a porter inside where the runner may not."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path

from myriant.runner.inside.clear import clear
from myriant.runner.inside.find import MOST_FILES as MOST_FILES
from myriant.runner.porter import Porter
from myriant.runner.sandbox import Room, Sandbox

ASIDE = "aside"  # the folder of rooms that could not be removed


def remove(sandbox: Sandbox, room: Room, porter: Porter | None = None) -> bool:
    """Remove an attempt's room; what cannot be is put aside, beside it, and False is returned.

    `porter` is the room's own, which ends with it.
    """
    whole = not room.workspace.is_dir()
    for one in (
        porter,
        Porter(sandbox, room),
    ):  # its own may be stopped meanwhile, with its attempt
        if one is not None and not one.ended and not whole:
            try:
                whole = one.clear()
            finally:
                stopped = one.ended
                one.kill()
            if not stopped:
                break
    with contextlib.suppress(OSError):
        if whole and not clear(str(room.base)):  # what is left there is the runner's own; nothing else runs there
            room.base.rmdir()
            return True
    aside = room.base.parent / ASIDE
    with contextlib.suppress(OSError):
        aside.mkdir(mode=0o700, exist_ok=True)
        room.base.rename(aside / f"{room.base.name}-{os.urandom(4).hex()}")
    return False


def remove_left(sandbox: Sandbox, work: Path) -> list[str]:
    """Clean a runner's folder of what an earlier start left that was killed; what could not be removed."""
    odd = []
    for left in sorted(work.iterdir()):
        if left.name == ASIDE:
            continue
        if (left / "workspace").is_dir() and not left.is_symlink():
            if not remove(sandbox, Room(left, (left / "workspace").lstat().st_uid)):
                odd.append(left.name)
        elif left.is_dir() and not left.is_symlink():
            with contextlib.suppress(OSError):
                clear(str(left))
                left.rmdir()
        else:
            left.unlink(missing_ok=True)
    return odd
