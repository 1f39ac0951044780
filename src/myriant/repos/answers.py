"""Git's answers: the one place that reads them.

Git separates by NUL or ends lines by a newline, and by nothing else: a name may hold any other character, also one at
which Python would end a line (U+2028, U+2029, U+0085) or split words. What is no UTF-8 is shown as U+FFFD.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Iterator

from myriant.repos.git import is_object_id

_ESCAPED = re.compile(rb"\\([abfnrtv\\\"]|[0-7]{3})")
_LETTERS = {b"a": b"\a", b"b": b"\b", b"f": b"\f", b"n": b"\n", b"r": b"\r", b"t": b"\t", b"v": b"\v"}
# categories of Unicode: control, format, surrogate, private; all sorts of spaces and ends of lines
_UNSEEN = ("Cc", "Cf", "Cs", "Co", "Zs", "Zl", "Zp")


def text(told: bytes) -> str:
    """An answer as it is."""
    return told.decode("utf-8", "replace")


def word(told: bytes) -> str:
    """An answer of one line."""
    return text(told).removesuffix("\n")


def lines(told: bytes) -> list[str]:
    return [line for line in text(told).split("\n") if line]


def records(told: bytes) -> list[str]:
    """The parts of an answer that was asked for with -z, empty ones left out."""
    return [part for part in text(told).split("\0") if part]


def ids(told: bytes) -> list[str]:
    """Object ids, one a line. Raises ValueError where something else stands."""
    found = lines(told)
    if not all(is_object_id(i) for i in found):
        raise ValueError("git listed something that is no object")
    return found


def refs(told: bytes) -> dict[str, str]:
    """By full name the object of each line `id name`, a tab or a space between."""
    rows = (re.split(r"[\t ]", line, maxsplit=1) for line in lines(told))
    return {row[1]: row[0] for row in rows if len(row) == 2 and is_object_id(row[0])}


def blobs(told: bytes, paths: Iterable[str]) -> Iterator[tuple[str, str]]:
    """What `git cat-file --batch` gives for objects that are there, each with its path."""
    at = 0
    for path in paths:
        head = told.index(b"\n", at)
        size = int(told[at:head].split(b" ")[2])
        yield path, text(told[head + 1 : head + 1 + size])
        at = head + 1 + size + 1


def sizes(told: bytes) -> list[int | None]:
    """What `git cat-file --batch-check` says of each object: the bytes of a file, None of what is no file here.

    An object that is not there is answered by its name, which may be a path of any characters but a newline.
    """
    rows = [row.split(b" ") for row in told.split(b"\n")[:-1]]
    return [int(row[2]) if len(row) == 3 and row[1] == b"blob" and row[2].isdigit() else None for row in rows]


def header_path(told: str, prefix: str) -> str:
    """A path as git writes it in the header of a difference; empty for /dev/null."""
    name = told.rstrip("\t")
    if name == "/dev/null":
        return ""
    if len(name) > 1 and name.startswith('"') and name.endswith('"'):
        inner = name[1:-1].encode("utf-8", "surrogateescape")
        name = text(_ESCAPED.sub(lambda m: _LETTERS.get(m[1]) or _character(m[1]), inner))
    return name.removeprefix(prefix)


def _character(told: bytes) -> bytes:
    return bytes([int(told, 8) & 0xFF]) if len(told) == 3 else told


def unseen(name: str) -> str:
    """The first character of a name that nobody can see, or that cannot be told from another: `U+2028`; else empty."""
    odd = next((c for c in name if unicodedata.category(c) in _UNSEEN or c == "\N{REPLACEMENT CHARACTER}"), "")
    return f"U+{ord(odd):04X}" if odd else ""


def shown(name: str) -> str:
    """A name with what nobody can see written out: `main\\u2028x`."""
    return "".join(f"\\u{ord(c):04x}" if unseen(c) else c for c in name)
