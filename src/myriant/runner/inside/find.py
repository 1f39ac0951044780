"""Finding what globs name, and streaming it out."""

from __future__ import annotations

import os
import stat

from myriant.core.plan.globs import matches, may_match_below
from myriant.runner.inside import frames
from myriant.runner.inside.beneath import Entry, open_beneath, open_regular, walk

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from typing import IO, Any

MOST_FILES = 20_000  # that one pattern may match
_MOST_ODD = 20  # links and the like that are told for one pattern


def take(
    top: int, out: IO[bytes], *, globs: Sequence[str], since: int, most_file: int, most_bytes: int
) -> dict[str, Any]:
    """Stream out the regular files that globs name, if their change time is not before `since` (ns).

    What is not streamed is an entry too, with why in `type`: stale, large, unreadable, or odd (no regular file).
    A glob that names more than MOST_FILES gives none of them: what is left out could hold the one failure.
    """
    found: list[tuple[Entry, list[int]]] = []
    counts = [0] * len(globs)
    odd = [0] * len(globs)
    shut: list[str] = []
    for entry in walk(top, shut=shut):
        mine = [i for i, glob in enumerate(globs) if matches(glob, entry.path)]
        if not mine or stat.S_ISDIR(entry.mode):
            continue
        if not stat.S_ISREG(entry.mode):
            mine = [i for i in mine if odd[i] < _MOST_ODD]
        for i in mine:
            counts[i] += stat.S_ISREG(entry.mode) and entry.status.st_ctime_ns >= since
            odd[i] += not stat.S_ISREG(entry.mode)
        if len(found) < MOST_FILES * 4 or not stat.S_ISREG(entry.mode):
            found.append((entry, mine))
    left = most_bytes
    for entry, mine in found:
        mine = [i for i in mine if counts[i] <= MOST_FILES]
        if mine:
            left -= _stream(top, out, entry, mine, since, min(most_file, left))
    unseen = {glob: path for glob in globs for path in shut[::-1] if may_match_below(glob, f"{path}/" if path else "")}
    return {"too_many": {globs[i]: n for i, n in enumerate(counts) if n > MOST_FILES}, "unseen": unseen}


def _stream(top: int, out: IO[bytes], entry: Entry, mine: list[int], since: int, most: int) -> int:
    """One entry; the bytes that it gave."""
    head: dict[str, Any] = {"path": entry.path, "globs": mine, "type": "file", "size": entry.status.st_size}
    if not stat.S_ISREG(entry.mode):
        head["type"] = "odd"
    elif entry.status.st_ctime_ns < since:
        head["type"] = "stale"
    elif entry.status.st_size > most:
        head["type"] = "large"
    if head["type"] != "file":
        frames.write_json(out, frames.ENTRY, head)
        return 0
    try:
        file, status = open_regular(top, entry.path)
    except OSError:
        frames.write_json(out, frames.ENTRY, head | {"type": "unreadable"})
        return 0
    return _pour(out, file, head | {"size": min(most, status.st_size)})


def _pour(out: IO[bytes], file: int, head: dict[str, Any]) -> int:
    """Head, content and end of a file, of as many bytes as its head says, or fewer."""
    frames.write_json(out, frames.ENTRY, head)
    left = int(head["size"])
    with os.fdopen(file, "rb", buffering=0) as source:
        while left:
            sent = frames.send(out, source, min(left, frames.MOST_FRAME))
            left -= sent
            if not sent:
                break
    frames.write(out, frames.ENDED)
    return int(head["size"]) - left


def kept(top: int, out: IO[bytes], *, globs: Sequence[str], most_bytes: int) -> dict[str, Any]:
    """Stream out every file, folder and link that a glob names, or that lies below a folder it names."""
    left = most_bytes
    for entry in _kept(top, globs):
        head: dict[str, Any] = {
            "path": entry.path,
            "mode": stat.S_IMODE(entry.mode) & 0o777,
            "changed": entry.status.st_mtime,
        }
        if stat.S_ISDIR(entry.mode):
            frames.write_json(out, frames.ENTRY, head | {"type": "folder"})
            continue
        try:
            if stat.S_ISLNK(entry.mode):
                link = _link(top, entry.path)
                frames.write_json(out, frames.ENTRY, head | {"type": "link", "link": link})
                continue
            file, status = open_regular(top, entry.path)
        except OSError as error:
            return {"error": f"{entry.path} cannot be read: {error.strerror}"}
        if status.st_size > left:
            os.close(file)
            return {"error": f"its files take more than {most_bytes >> 30} GiB"}
        if _pour(out, file, head | {"type": "file", "size": status.st_size}) < status.st_size:
            return {"error": f"{entry.path} changed while it was read"}
        left -= status.st_size
    return {}


def _link(top: int, path: str) -> str:
    folder, _, name = path.rpartition("/")
    if not folder:
        return os.readlink(name, dir_fd=top)
    parent = open_beneath(top, folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        return os.readlink(name, dir_fd=parent)
    finally:
        os.close(parent)


def _kept(top: int, globs: Sequence[str]) -> Iterator[Entry]:
    within = ""
    for entry in walk(top):
        if within and entry.path.startswith(within):
            pass
        elif any(matches(glob, entry.path) for glob in globs):
            if stat.S_ISDIR(entry.mode):
                within = entry.path + "/"
        else:
            continue
        if stat.S_ISREG(entry.mode) or stat.S_ISDIR(entry.mode) or stat.S_ISLNK(entry.mode):
            yield entry


def digests(top: int, *, globs: Sequence[str], most_bytes: int) -> dict[str, Any]:
    """The regular files that globs name, with the digest (SHA-256) of their content; the first MOST_FILES."""
    import hashlib  # most attempts need none

    found: dict[str, str] = {}
    left = most_bytes
    for entry in walk(top):
        if not stat.S_ISREG(entry.mode) or not any(matches(glob, entry.path) for glob in globs):
            continue
        if len(found) >= MOST_FILES or entry.status.st_size > left:
            return {"error": "it is renewed on more than can be read", "found": {}}
        try:
            file, _ = open_regular(top, entry.path)
        except OSError:
            continue
        left -= entry.status.st_size
        with os.fdopen(file, "rb") as source:
            found[entry.path] = hashlib.file_digest(source, "sha256").hexdigest()
    return {"found": found}
