"""The porter's loop: a request in, frames out, until its input ends."""

from __future__ import annotations

import json
import os
import sys

from myriant.runner.inside import frames
from myriant.runner.inside.beneath import open_folder
from myriant.runner.inside.clear import clear

TYPE_CHECKING = False  # as in typing, which takes longer to import than all of this
if TYPE_CHECKING:
    from typing import IO, Any


def main() -> None:
    serve(sys.stdin.buffer, sys.stdout.buffer)


def serve(source: IO[bytes], out: IO[bytes]) -> None:
    while line := source.readline(frames.MOST_REQUEST):
        try:
            answer = _answer(json.loads(line), source, out)
        except (OSError, RecursionError, MemoryError, frames.BadFrame) as error:
            answer = {"error": str(error) or type(error).__name__}
        frames.write_json(out, frames.ANSWER, answer)
        out.flush()


def _answer(request: dict[str, Any], source: IO[bytes], out: IO[bytes]) -> dict[str, Any]:
    wish = request.pop("wish")
    if wish == "clear":
        return {"left": sum(clear(folder) for folder in request["folders"])}
    top = open_folder(request.pop("top"))
    try:
        return _asked(wish, top, request, source, out)
    finally:
        os.close(top)


def _asked(wish: str, top: int, request: dict[str, Any], source: IO[bytes], out: IO[bytes]) -> dict[str, Any]:
    """What each wish takes is imported when it is wished for: most attempts wish for two or three."""
    if wish in ("take", "kept", "digests"):
        from myriant.runner.inside import find

        if wish == "digests":
            return find.digests(top, **request)
        return (find.take if wish == "take" else find.kept)(top, out, **request)
    if wish in ("packages", "names", "locate"):
        from myriant.runner.inside import look

        if wish == "packages":
            return look.packages(top)
        return (look.names if wish == "names" else look.locate)(top, **request)
    if wish == "place":
        from myriant.runner.inside.place import place

        return place(top, **request)
    if wish == "unpack":
        return _unpack(top, source, **request)
    raise OSError(f"nothing is called {wish}")


def _unpack(top: int, source: IO[bytes], *, most_bytes: int) -> dict[str, Any]:
    """Also of a stream that is refused the rest is read, so that the next request is found."""
    from myriant.runner.inside import archive

    packed = frames.Framed(source)
    try:
        return {"files": archive.Unpacked(top, most_bytes).all_of(packed)}  # type: ignore[arg-type]  # it reads only
    except archive.BadArchive as error:
        return {"bad": str(error)}
    finally:
        packed.drain()
