"""The runner's side of the porter: it asks, reads what is streamed out, and opens nothing that a step could write."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import hashlib
import io
import json
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import IO, Any

import zstandard

from myriant.runner.inside import archive, find, frames, look, main, place
from myriant.runner.inside.beneath import parts_of
from myriant.runner.inside.clear import clear
from myriant.runner.inside.find import MOST_FILES as MOST_FILES
from myriant.runner.sandbox import WORKSPACE, Room, Sandbox
from myriant.wire.limits import MOST_REPORT

MOST_CACHE = 4 << 30
ASIDE = "aside"  # the folder of rooms that could not be removed
MOST_TAKEN = 20 << 30  # bytes of all files of one call
MOST_SECONDS = 600.0  # of a call
_COMPILED = (archive, find, look, main, place)  # imported here, so that the porter finds them compiled
_LOOKING = 30.0  # seconds of one that only adds to the record
_MEMORY = 128 << 20
_MOST_LEFT = 1000  # folders below which something is shown, which the walls made and their user cannot remove
_SOURCE = Path(__file__).parents[2]
_BEGIN = "import sys; sys.path.insert(0, sys.argv[1]); from myriant.runner.inside.main import main; main()"


class PorterFailed(Exception):
    """What steps left could not be had; the text says why."""


class BadArchive(Exception):
    """A cache's archive cannot be unpacked; the text says why."""


class SettingsMissing(Exception):
    """The settings are not there or not complete; the text says which."""


@dataclass(frozen=True, slots=True)
class Found:
    path: str  # relative to the workspace
    copy: Path

    def digest(self) -> str:
        """SHA-256 of the copy as it lies there now."""
        with self.copy.open("rb") as source:
            return hashlib.file_digest(source, "sha256").hexdigest()


@dataclass(slots=True)
class Taken:
    """What one glob gave: own copies of fresh files; and the paths of what was not taken."""

    found: list[Found] = field(default_factory=list)
    stale: list[str] = field(default_factory=list)  # not written since the mark
    refused: list[str] = field(default_factory=list)  # too large or unreadable, in words
    odd: list[str] = field(default_factory=list)  # links, sockets, devices
    too_many: int = 0


def time_mark(folder: Path) -> int:
    """A change time (ns) that is later than that of every file there now: what is older was not written by a step."""
    mark = folder / "mark"
    mark.touch()
    before = mark.stat().st_ctime_ns
    while (now := mark.stat().st_ctime_ns) <= before:
        mark.chmod(0o600)
    return now


class Porter:
    """One process inside the room's walls, begun when first asked. `kill` may be called from another thread."""

    def __init__(self, sandbox: Sandbox, room: Room) -> None:
        self._sandbox, self._room = sandbox, room
        self._top = WORKSPACE if sandbox.bubblewrap else str(room.workspace)
        self._process: subprocess.Popen[bytes] | None = None
        self._lock = threading.Lock()
        self._ended = False

    @property
    def pid(self) -> int | None:
        return self._process.pid if self._process else None

    def begin(self) -> None:
        """Have it started by the time that it is asked; what goes wrong is said then."""
        with contextlib.suppress(OSError):
            self._begun()

    @property
    def ended(self) -> bool:
        return self._ended

    def take(self, globs: Sequence[str], since: int, copies: Path) -> dict[str, Taken]:
        """What globs name in the workspace, fresh from `since` (change time, ns) on. Raises PorterFailed."""
        taken = {glob: Taken() for glob in globs}
        order = list(taken)
        if not order:
            return taken
        asked = {"globs": order, "since": since, "most_file": MOST_REPORT, "most_bytes": MOST_TAKEN}
        with self._asking("take", asked, MOST_SECONDS) as answer:
            for head, content in answer.files():
                path = _shown(head["path"])
                mine = [taken[order[i]] for i in head["globs"]]
                if head["type"] != "file":
                    _note(mine, path, head)
                    continue
                copy = copies / os.urandom(8).hex()
                _kept(content, copy)
                for i, one in enumerate(mine):
                    own = copy if i == 0 else copy.with_name(f"{copy.name}-{i}")
                    if i:
                        shutil.copyfile(copy, own)
                    one.found.append(Found(path, own))
            for glob, count in answer.told["too_many"].items():
                taken[glob].too_many = int(count)
            for glob, path in answer.told["unseen"].items():
                where = _shown(path if len(path) <= 100 else f"{path[:60]}…")
                why = f"{where} could not be looked into" if path else "there are more files than are looked at"
                taken[glob].refused.append(f"{why}, and may hold what {glob} names")
        return taken

    def digests(self, globs: Sequence[str]) -> dict[str, str]:
        """The files that globs name, with the digest (SHA-256) of their content. Raises PorterFailed."""
        found = self._ask("digests", {"globs": list(globs), "most_bytes": MOST_CACHE}, MOST_SECONDS)["found"]
        return {_shown(path): str(digest) for path, digest in found.items()}

    def packages(self) -> dict[str, str]:
        """Packages installed in the workspace, Python's and Node's; none when they cannot be learned."""
        try:
            return {_shown(n): _shown(v) for n, v in self._ask("packages", {}, _LOOKING)["packages"].items()}
        except PorterFailed:
            return {}

    def names(self, wanted: Sequence[str]) -> list[tuple[str, str, int, str]]:
        """Lines of the workspace's files that set one of the names: name, file, line, value."""
        if not wanted:
            return []
        try:
            found = self._ask("names", {"wanted": list(wanted)}, _LOOKING)["found"]
        except PorterFailed:
            return []
        return [(str(n), _shown(file), int(line), _shown(value)) for n, file, line, value in found]

    def locate(self, classes: Sequence[str]) -> dict[str, tuple[str, list[str]]]:
        """For class names the file in which each stands, and what is left of it."""
        found = self._ask("locate", {"classes": list(classes)}, MOST_SECONDS)["found"] if classes else {}
        return {str(name): (_shown(file), [str(p) for p in rest]) for name, (file, rest) in found.items()}

    def place(self, file: str, example: str, to: str) -> list[str]:
        """Compare settings with their example and copy them into place; what is to be said. Raises SettingsMissing."""
        told = self._ask("place", {"file": file, "example": example, "to": to}, MOST_SECONDS)
        if "missing" in told:
            raise SettingsMissing(str(told["missing"]))
        return [str(line) for line in told["said"]]

    def pack(self, keep: Sequence[str], target: Path, masks: Callable[[Path], bool] | None) -> tuple[int, str]:
        """Write what globs name into an archive; how many entries, and why there are none. Raises PorterFailed.

        `masks` says whether a file holds a secret (None: there are none).
        """
        count = 0
        with (
            target.open("wb") as raw,
            zstandard.ZstdCompressor(level=1, threads=-1).stream_writer(raw) as packed,
            tarfile.open(fileobj=packed, mode="w|", format=tarfile.PAX_FORMAT) as archive,
            tempfile.TemporaryDirectory(dir=target.parent) as spare,
            self._asking("kept", {"globs": list(keep), "most_bytes": MOST_CACHE}, MOST_SECONDS) as answer,
        ):
            for head, content in answer.files():
                count += 1
                info = tarfile.TarInfo(head["path"])
                info.mode, info.mtime = int(head["mode"]) & 0o777, head["changed"]
                if head["type"] == "link":
                    info.type, info.linkname = tarfile.SYMTYPE, str(head["link"])
                    archive.addfile(info)
                elif head["type"] == "folder":
                    info.type = tarfile.DIRTYPE
                    archive.addfile(info)
                else:
                    info.size = int(head["size"])
                    file = Path(spare) / "file"
                    _kept(content, file)
                    if masks is not None and masks(file):
                        self._drop()
                        return 0, f"{_shown(info.name)} holds a secret"
                    if file.stat().st_size < info.size:
                        self._drop()
                        return 0, f"{_shown(info.name)} changed while it was read"
                    with file.open("rb") as source:
                        archive.addfile(info, source)
            if "error" in answer.told:
                return 0, str(answer.told["error"])
        return count, "" if count else "nothing matches what it keeps"

    def unpack(self, archive: Path) -> int:
        """Put an archive's files into the workspace; how many. Raises BadArchive."""
        left = MOST_CACHE + (1 << 30)  # its heads take some
        try:
            with self._asking("unpack", {"most_bytes": MOST_CACHE}, MOST_SECONDS) as answer, archive.open("rb") as raw:
                source = zstandard.ZstdDecompressor(max_window_size=1 << 27).stream_reader(raw)
                try:
                    while piece := source.read(frames.MOST_FRAME):
                        left -= len(piece)
                        if left < 0:
                            raise BadArchive("its files take more than a cache may")
                        answer.give(piece)
                finally:
                    answer.give(None)
                list(answer.files())
                if "bad" in answer.told:
                    raise BadArchive(_shown(answer.told["bad"]))
                return int(answer.told["files"])
        except (PorterFailed, zstandard.ZstdError, EOFError) as error:
            raise BadArchive(str(error)) from error

    def clear(self) -> bool:
        """Empty the folders that steps could write, but for the few that the walls themselves made there."""
        room = self._room
        folders = ["/workspace", "/tmp", "/home/cell"]
        if not self._sandbox.bubblewrap:
            folders = [str(room.workspace), str(room.tmp), str(room.home)]
        try:
            return int(self._ask("clear", {"folders": folders}, MOST_SECONDS)["left"]) <= _MOST_LEFT
        except PorterFailed:
            return False

    def kill(self) -> None:
        """End it, for good: a call that waits raises PorterFailed."""
        with self._lock:
            self._ended = True
        self._drop()

    def _ask(self, wish: str, asked: dict[str, Any], seconds: float) -> dict[str, Any]:
        with self._asking(wish, asked, seconds) as answer:
            for _, content in answer.files():
                for _ in content:
                    pass
            return answer.told

    @contextlib.contextmanager
    def _asking(self, wish: str, asked: dict[str, Any], seconds: float) -> Iterator[_Answer]:
        late = threading.Event()

        def over() -> None:
            late.set()
            self._drop()

        timer = threading.Timer(seconds, over)
        timer.daemon = True
        try:
            answer = _Answer(self._begun())
            timer.start()
            answer.ask(json.dumps({"wish": wish, "top": self._top, **asked}))
            yield answer
            if "error" in answer.told and wish not in ("kept",):
                raise PorterFailed(f"what the steps left cannot be looked at: {_shown(answer.told['error'])}")
        except (OSError, frames.BadFrame, ValueError, LookupError, TypeError) as error:
            self._drop()
            why = f"it took more than {seconds:g} s" if late.is_set() else self._complaint() or str(error)
            raise PorterFailed(f"what the steps left cannot be looked at: {why}") from error
        except BaseException:
            self._drop()
            raise
        finally:
            timer.cancel()

    def _begun(self) -> subprocess.Popen[bytes]:
        with self._lock:
            if self._ended:
                raise OSError("it was stopped")
            if self._process is None:
                python = Path(sys.executable).resolve()
                seen = (*self._room.shown, Path(sys.base_prefix).resolve(), _SOURCE)
                room = replace(self._room, shown=tuple(dict.fromkeys(p for p in seen if not p.is_relative_to("/usr"))))
                words = [str(python), "-I", "-S", "-B", "-c", _BEGIN, str(_SOURCE)]
                environment = {"PATH": "/usr/bin:/bin", "LANG": "C.UTF-8"}
                command, values, _ = self._sandbox.command(words, room=room, environment=environment, memory=_MEMORY)
                errors = os.open(self._room.base / "porter", os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
                try:
                    self._process = subprocess.Popen(
                        command, env=values, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=errors,
                        start_new_session=True, bufsize=frames.MOST_FRAME,
                    )  # fmt: skip
                finally:
                    os.close(errors)
                assert self._process.stdout is not None
                with contextlib.suppress(OSError):  # without it, it is only slower
                    fcntl.fcntl(self._process.stdout.fileno(), fcntl.F_SETPIPE_SZ, frames.MOST_FRAME)
            return self._process

    def _complaint(self) -> str:
        with contextlib.suppress(OSError):
            return (self._room.base / "porter").read_bytes()[-300:].decode("utf-8", "replace").strip()
        return ""

    def _drop(self) -> None:
        """End the process; the next call begins another."""
        with self._lock:
            process, self._process = self._process, None
        if process is not None:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, 9)
            process.wait()
            for pipe in (process.stdin, process.stdout):
                with contextlib.suppress(OSError):
                    if pipe is not None:
                        pipe.close()


class _Answer:
    """What comes back for one request; it is checked as what a stranger says."""

    def __init__(self, process: subprocess.Popen[bytes]) -> None:
        assert process.stdin is not None and process.stdout is not None
        assert isinstance(process.stdout, io.BufferedReader)
        self._in: IO[bytes] = process.stdin
        self._out = process.stdout.raw  # never through the buffer: content goes from the pipe into files
        self.told: dict[str, Any] = {}

    def ask(self, text: str) -> None:
        self._in.write(text.encode() + b"\n")
        self._in.flush()

    def give(self, piece: bytes | None) -> None:
        """A piece of what the porter reads; None ends it."""
        frames.write(self._in, frames.DATA if piece is not None else frames.ENDED, piece or b"")
        if piece is None:
            self._in.flush()

    def files(self) -> Iterator[tuple[dict[str, Any], _Content]]:
        """Heads of entries with their content, which is read before the next; then `told` is there."""
        while True:
            kind, content = frames.read(self._out)
            if kind == frames.ANSWER:
                self.told = _table(content)
                return
            if kind != frames.ENTRY:
                raise frames.BadFrame("it holds no entry")
            head = _table(content)
            parts_of(head["path"])
            content_of = _Content(self._out, int(head["size"]) if head.get("type") == "file" else None)
            yield head, content_of
            for _ in content_of:
                pass


class _Content:
    """The bytes of one file in the stream, to be read once: piece by piece, or into a file."""

    def __init__(self, source: io.RawIOBase, size: int | None) -> None:
        self._source: Any = source
        self._left = size  # None: nothing follows, or nothing any more

    def __iter__(self) -> Iterator[bytes]:
        while (size := self._next()) is not None:
            yield frames.read_whole(self._source, size)

    def into(self, target: int) -> None:
        """From the pipe into a file, by the kernel where it can. Raises BadFrame, OSError."""
        while (size := self._next()) is not None:
            while size:
                try:
                    moved = os.splice(self._source.fileno(), target, size)
                except OSError as error:
                    if error.errno != errno.EINVAL:
                        raise
                    os.write(target, piece := frames.read_whole(self._source, size))  # a file system without it
                    moved = len(piece)
                if not moved:
                    raise frames.BadFrame("it ended in the middle of a frame")
                size -= moved

    def _next(self) -> int | None:
        """Bytes of the next piece, None at the end."""
        if self._left is None:
            return None
        kind, size = frames.read_head(self._source)
        if kind == frames.ENDED:
            self._left = None
            return None
        self._left -= size
        if kind != frames.DATA or self._left < 0:
            raise frames.BadFrame("a file is longer than was said")
        return size


def _table(content: bytes) -> dict[str, Any]:
    found = json.loads(content)
    if not isinstance(found, dict):
        raise frames.BadFrame("it holds no table")
    return found


def _note(mine: Sequence[Taken], path: str, head: dict[str, Any]) -> None:
    for one in mine:
        match head["type"]:
            case "stale":
                one.stale.append(path)
            case "odd":
                one.odd.append(path)
            case "large":
                one.refused.append(f"{path} is larger than may be taken ({int(head['size']):,} bytes)")
            case _:
                one.refused.append(f"{path} cannot be read")


def _kept(content: _Content, copy: Path) -> None:
    """Write a file of the runner's own."""
    with copy.open("wb", buffering=0) as target:
        content.into(target.fileno())


def _shown(text: Any) -> str:
    """A name of any bytes as text that can be sent."""
    return str(text).encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


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
