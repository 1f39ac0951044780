"""The runner's side of the porter: it asks, reads what is streamed out, and opens nothing that a step could write."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import shutil
import subprocess
import sys
import tarfile
import tempfile
import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import zstandard

from myriant.runner.inside import archive, find, frames, look, main, place
from myriant.runner.inside.find import MOST_FILES as MOST_FILES
from myriant.runner.porter_stream import MOST_CACHE, MOST_TAKEN, Answer, Found, PorterFailed, Taken, kept, note, shown
from myriant.runner.sandbox import WORKSPACE, Room, Sandbox
from myriant.wire.limits import MOST_REPORT

MOST_SECONDS = 600.0  # of a call
_COMPILED = (archive, find, look, main, place)  # imported here, so that the porter finds them compiled
_LOOKING = 30.0  # seconds of one that only adds to the record
_MEMORY = 128 << 20
MOST_LEFT = 1000  # folders below which something is shown, which the walls made and their user cannot remove
_SOURCE = Path(__file__).parents[2]
_BEGIN = "import sys; sys.path.insert(0, sys.argv[1]); from myriant.runner.inside.main import main; main()"


class BadArchive(Exception):
    """A cache's archive cannot be unpacked; the text says why."""


class SettingsMissing(Exception):
    """The settings are not there or not complete; the text says which."""


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
                path = shown(head["path"])
                mine = [taken[order[i]] for i in head["globs"]]
                if head["type"] != "file":
                    note(mine, path, head)
                    continue
                copy = copies / os.urandom(8).hex()
                kept(content, copy)
                for i, one in enumerate(mine):
                    own = copy if i == 0 else copy.with_name(f"{copy.name}-{i}")
                    if i:
                        shutil.copyfile(copy, own)
                    one.found.append(Found(path, own))
            for glob, count in answer.told["too_many"].items():
                taken[glob].too_many = int(count)
            for glob, path in answer.told["unseen"].items():
                where = shown(path if len(path) <= 100 else f"{path[:60]}…")
                why = f"{where} could not be looked into" if path else "there are more files than are looked at"
                taken[glob].refused.append(f"{why}, and may hold what {glob} names")
        return taken

    def digests(self, globs: Sequence[str]) -> dict[str, str]:
        """The files that globs name, with the digest (SHA-256) of their content. Raises PorterFailed."""
        found = self._ask("digests", {"globs": list(globs), "most_bytes": MOST_CACHE}, MOST_SECONDS)["found"]
        return {shown(path): str(digest) for path, digest in found.items()}

    def packages(self) -> dict[str, str]:
        """Packages installed in the workspace, Python's and Node's; none when they cannot be learned."""
        try:
            return {shown(n): shown(v) for n, v in self._ask("packages", {}, _LOOKING)["packages"].items()}
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
        return [(str(n), shown(file), int(line), shown(value)) for n, file, line, value in found]

    def locate(self, classes: Sequence[str]) -> dict[str, tuple[str, list[str]]]:
        """For class names the file in which each stands, and what is left of it."""
        found = self._ask("locate", {"classes": list(classes)}, MOST_SECONDS)["found"] if classes else {}
        return {str(name): (shown(file), [str(p) for p in rest]) for name, (file, rest) in found.items()}

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
                    kept(content, file)
                    if masks is not None and masks(file):
                        self._drop()
                        return 0, f"{shown(info.name)} holds a secret"
                    if file.stat().st_size < info.size:
                        self._drop()
                        return 0, f"{shown(info.name)} changed while it was read"
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
                    raise BadArchive(shown(answer.told["bad"]))
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
            return int(self._ask("clear", {"folders": folders}, MOST_SECONDS)["left"]) <= MOST_LEFT
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
    def _asking(self, wish: str, asked: dict[str, Any], seconds: float) -> Iterator[Answer]:
        late = threading.Event()

        def over() -> None:
            late.set()
            self._drop()

        timer = threading.Timer(seconds, over)
        timer.daemon = True
        try:
            answer = Answer(self._begun())
            timer.start()
            answer.ask(json.dumps({"wish": wish, "top": self._top, **asked}))
            yield answer
            if "error" in answer.told and wish not in ("kept",):
                raise PorterFailed(f"what the steps left cannot be looked at: {shown(answer.told['error'])}")
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
                        command,
                        env=values,
                        stdin=subprocess.PIPE,
                        stdout=subprocess.PIPE,
                        stderr=errors,
                        start_new_session=True,
                        bufsize=frames.MOST_FRAME,
                    )
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
