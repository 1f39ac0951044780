"""Masking: no secret leaves the runner, in whatever common shape a program prints it."""

from __future__ import annotations

import base64
import bisect
import codecs
import html
import json
import re
import urllib.parse
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

import numpy as np
from numpy.typing import NDArray

SHORTEST = 6  # characters; what is shorter cannot be told from ordinary text
_SEPARATED = rb"(?:[\s,;:.'\"|+_-]|\\[nrt]|\x1b\[[0-9;]*[A-Za-z]){0,3}"
_GAPS = re.compile(_SEPARATED.replace(b"{0,3}", b"{1,3}"))
_UNENDED = re.compile(rb"(?:\x1b\[?[0-9;]*|\\)\Z")
_PIECE = 1 << 18


class Masker:
    """Replaces secrets in a stream of bytes by their names in stars.

    A secret is recognised as it is, line by line, reversed, in base 64 (at any alignment, wrapped or URL-safe),
    base 32, hexadecimal, percent-coded once or twice, escaped for JSON, Python, C, XML, HTML, shell or SQL, in
    UTF-16, in capitals or small letters, and with separators or terminal colours between its characters; also
    when it is split over pieces. `feed` holds back what may become a secret with the next piece.
    """

    def __init__(self, secrets: Mapping[str, str]) -> None:
        found: dict[bytes, bytes] = {}
        for name, value in secrets.items():
            star = f"***{name}***".encode()
            for shape in shapes(value):
                found.setdefault(shape, star)
        self._stars = found
        self._sorted = sorted(found)
        self._reach = max(map(len, found), default=0)
        self._by_head: dict[bytes, list[bytes]] = {}
        self._heads = np.zeros(1 << 16, np.bool_)  # by a hash of four bytes: whether a secret begins with them
        for shape in sorted(found, key=len, reverse=True):
            self._by_head.setdefault(shape[:4], []).append(shape)
            self._heads[_hashes(shape[:4])] = True
        self._loose = [
            (re.compile(_SEPARATED.join(re.escape(bytes([b])) for b in part.encode())), _squeezed(part.encode()), star)
            for name, value in secrets.items()
            for part in [value.strip()]
            if SHORTEST <= len(part.encode()) <= 400 and "\n" not in part
            for star in [f"***{name}***".encode()]
        ]
        self._rest = b""

    @property
    def idle(self) -> bool:
        return not self._stars

    def feed(self, data: bytes) -> bytes:
        """What may be shown now, of what was held back and `data`."""
        if self.idle:
            return data
        text = self.mask(self._rest + data)
        cut = self._undecided(text)
        text, self._rest = text[:cut], text[cut:]
        return text

    def end(self) -> bytes:
        """What was held back: nothing more is coming, so it is no secret."""
        text, self._rest = self._rest, b""
        return text

    def mask(self, text: bytes) -> bytes:
        """The text with every secret replaced."""
        pieces, done = [], 0
        for at in self._candidates(text, 0):
            if at < done:
                continue
            shape = next((s for s in self._by_head.get(text[at : at + 4], ()) if text.startswith(s, at)), None)
            if shape is not None:
                pieces += [text[done:at], self._stars[shape]]
                done = at + len(shape)
        text = b"".join([*pieces, text[done:]])
        for pattern, _, star in self._loose:
            text = pattern.sub(star, text)
        return text

    def words(self, text: str) -> str:
        return text if self.idle else self.mask(text.encode("utf-8", "surrogateescape")).decode("utf-8", "replace")

    def masks(self, file: Path) -> bool:
        """Whether a file holds a secret."""
        if self.idle:
            return False
        kept = b""
        with file.open("rb") as source:
            while piece := source.read(_PIECE):
                text = kept + piece
                if self.mask(text) != text:
                    return True
                kept = text[-max(self._reach, 2000) :]
        return False

    def mask_file(self, file: Path) -> bool:
        """Mask a file in place; whether there was anything to mask."""
        if not self.masks(file):
            return False
        masked = file.with_name(file.name + ".masked")
        stream = Masker({})
        stream.__dict__.update({k: v for k, v in self.__dict__.items() if k != "_rest"})
        with file.open("rb") as source, masked.open("wb") as target:
            while piece := source.read(_PIECE):
                target.write(stream.feed(piece))
            target.write(stream.end())
        masked.replace(file)
        return True

    def _undecided(self, text: bytes) -> int:
        """From where on the text may be the beginning of a secret."""
        size = len(text)
        start: int = max(0, size - self._reach)
        for at in [*self._candidates(text, start), *range(max(start, size - 3), size)]:
            if self._begins(text[at:]):
                return min(int(at), self._loosely_undecided(text))
        return self._loosely_undecided(text)

    def _candidates(self, text: bytes, start: int) -> list[int]:
        """Places from `start` on where four bytes stand with which a secret may begin."""
        if len(text) - start < 4:
            return []
        found: list[int] = (np.flatnonzero(self._heads[_hashes(text[start:])]) + start).tolist()
        return found

    def _begins(self, tail: bytes) -> bool:
        place = bisect.bisect_left(self._sorted, tail)
        return place < len(self._sorted) and self._sorted[place].startswith(tail)

    def _loosely_undecided(self, text: bytes) -> int:
        size, least = len(text), len(text)
        for _, raw, _ in self._loose:
            for at in range(max(0, size - 8 * len(raw)), least):
                if text[at] == raw[0] and raw.startswith(_squeezed(text[at:])):
                    least = at
                    break
        return least


def _hashes(text: bytes) -> NDArray[np.uint32]:
    """A hash below 65,536 of the four bytes that begin at each place (multiplicative, Knuth 6.4)."""
    digits = np.frombuffer(text, np.uint8).astype(np.uint32)
    words = digits[:-3] | digits[1:-2] << 8 | digits[2:-1] << 16 | digits[3:] << 24
    hashes: NDArray[np.uint32] = np.right_shift(words * np.uint32(2654435761), 16, dtype=np.uint32)
    return hashes


def _squeezed(text: bytes) -> bytes:
    """Without what may stand between the characters of a secret."""
    return _GAPS.sub(b"", _UNENDED.sub(b"", text))


def shapes(value: str) -> Iterator[bytes]:
    """The byte strings by which a secret may appear."""
    for part in _parts(value):
        yield from filter(lambda shape: len(shape) >= SHORTEST, _coded(part))


def _parts(value: str) -> list[str]:
    lines = [line.strip() for line in value.splitlines()]
    return list(dict.fromkeys(p for p in (value, value.strip(), *lines) if len(p) >= SHORTEST))


def _coded(part: str) -> Iterator[bytes]:
    raw = part.encode("utf-8", "surrogatepass")
    texts = [
        part,
        part[::-1],
        part.upper(),
        part.lower(),
        repr(part)[1:-1],
        ascii(part)[1:-1],
        json.dumps(part)[1:-1],
        json.dumps(part, ensure_ascii=False)[1:-1],
        escape(part),
        quoteattr(part)[1:-1],
        html.escape(part),
        part.replace("'", "'\\''"),
        part.replace("'", "'\"'\"'"),
        part.replace("'", "''"),
        part.replace('"', '\\"'),
        part.replace("\n", "\\n"),
        part.replace("\n", "\r\n"),
        codecs.encode(part, "rot13"),
        "".join(f"&#{ord(c)};" for c in part),
        "".join(f"&#x{ord(c):x};" for c in part),
        "".join(f"\\u{ord(c):04x}" for c in part),
        "".join(f"\\x{b:02x}" for b in raw),
        "".join(f"\\{b:03o}" for b in raw),
        "".join(f"%{b:02X}" for b in raw),
        "".join(f"%{b:02x}" for b in raw),
    ]
    for safe in ("", "/", "-_.~"):
        quoted = urllib.parse.quote(part, safe=safe)
        texts += [quoted, re.sub("%[0-9A-F]{2}", lambda m: m[0].lower(), quoted), urllib.parse.quote(quoted, safe="")]
    texts += [urllib.parse.quote_plus(part), urllib.parse.quote_plus(urllib.parse.quote_plus(part))]
    for text in texts:
        for cased in (text, text.lower(), text.upper()):
            yield cased.encode("utf-8", "surrogatepass")
    yield part.encode("unicode_escape")
    yield part.encode("utf-16-le", "surrogatepass")
    yield part.encode("utf-16-be", "surrogatepass")
    for between in ("", " ", ":", "-", ", ", "0x"):
        digits = between.join(f"{b:02x}" for b in raw)
        yield digits.encode()
        yield digits.upper().encode()
    pairs = [raw[i : i + 2].hex() for i in range(0, len(raw), 2)]
    yield " ".join(pairs).encode()
    for coded in (raw, raw + b"\n"):
        yield base64.b32encode(coded).rstrip(b"=")
        yield base64.b85encode(coded)
    yield from _base64(raw)


def _base64(raw: bytes) -> Iterator[bytes]:
    """Base 64 of `raw` wherever it stands in what was coded: the digits that depend on it alone."""
    for before in range(3):
        for code in (base64.b64encode, base64.urlsafe_b64encode):
            digits = code(bytes(before) + raw)
            whole = (before + len(raw)) * 8 // 6
            inner = digits[-(-before * 8 // 6) : whole]
            yield inner
            for width in (76, 64):
                for shift in range(0, width, 4) if len(inner) > width // 2 and len(inner) < 3000 else ():
                    yield _wrapped(inner, width, shift)


def _wrapped(digits: bytes, width: int, first: int) -> bytes:
    rows: Iterable[bytes] = [digits[:first], *(digits[i : i + width] for i in range(first, len(digits), width))]
    return b"\n".join(row for row in rows if row)
