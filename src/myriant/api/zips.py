"""ZIP archives, written while they are sent."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable, Iterator, Sequence


class _Pieces(io.RawIOBase):
    """A file that can only be written on, and gives away what was written."""

    def __init__(self) -> None:
        self.kept = bytearray()

    def writable(self) -> bool:
        return True

    def write(self, data: object) -> int:
        piece = bytes(data)  # type: ignore[call-overload]  # a buffer, as the base class says
        self.kept += piece
        return len(piece)

    def taken(self) -> bytes:
        piece, self.kept = bytes(self.kept), bytearray()
        return piece


def zipped(files: Sequence[tuple[str, Iterable[bytes]]]) -> Iterator[bytes]:
    """An archive of files by name; memory holds one piece at a time. Of equal names the later ones are numbered."""
    out, used = _Pieces(), set[str]()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, chunks in files:
            name = _unused(name, used)
            with archive.open(zipfile.ZipInfo(name), "w", force_zip64=True) as entry:
                for chunk in chunks:
                    entry.write(chunk)
                    yield out.taken()
    yield out.taken()


def _unused(name: str, used: set[str]) -> str:
    folder, _, last = name.rpartition("/")
    stem, dot, ending = last.partition(".") if not last.startswith(".") else (last, "", "")
    number, found = 1, name
    while found in used:
        number += 1
        found = f"{folder}/{stem} ({number}){dot}{ending}".removeprefix("/")
    used.add(found)
    return found
