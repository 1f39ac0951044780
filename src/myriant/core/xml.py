"""Feeding XML to expat safely: no entities, no network, bounded size, depth and token length.

What real writers leave not well-formed is repaired on the way, character by character, never element by element:
control characters, bytes that are no text, a bare `&`, a bare `<` in an attribute, `]]>` in text, noise before and
after the document.
"""

from __future__ import annotations

import codecs
import itertools
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from xml.parsers import expat

MOST_DEPTH = 200
MOST_BYTES = 1 << 30
MOST_TOKEN = 4 << 20  # expat needs quadratic time in the length of one unfinished tag
_CHUNK = 1 << 16
_HEAD = 4096
_MOST_NOISE = 1 << 20

_CONTROL = bytes(set(range(32)) - {9, 10, 13})
_BAD = re.compile(rb"\x1b\[[0-9;:]*[A-Za-z]|[" + re.escape(_CONTROL) + rb"]|\xef\xbf[\xbe\xbf]")
_REFERENCE = re.compile(rb"&#(?:x([0-9a-fA-F]{1,8})|([0-9]{1,8}));")
_BARE = re.compile(rb"&(?!(?:amp|lt|gt|quot|apos|#[0-9]+|#x[0-9a-fA-F]+);)")
_ATTRIBUTE = rb"\s+[\w:.-]+\s*=\s*"
_LESS = re.compile(
    rb"<[A-Za-z_][\w:.-]*(?:" + _ATTRIBUTE + rb"(?:\"[^\"<]*\"|'[^'<]*'))*" + _ATTRIBUTE + rb"(?:\"[^\"<]*|'[^'<]*)<"
)
_MAYBE_LESS = re.compile(rb"=\s*(?:\"[^\"<>]*|'[^'<>]*)<")
_UNFINISHED = re.compile(rb"(?:<[!\[CDATA]{0,8}|\]{1,2}|&[#\w]{0,11}|\x1b\[?[0-9;:]{0,9}|\xef\xbf?)\Z")
_DECLARED = re.compile(rb"<\?xml[^>]*?encoding\s*=\s*[\"']([^\"']{1,60})")
_BEGIN = re.compile(rb"<\?xml\s|<(?:\w+:)?(?:testsuites?|coverage)\b")
_ODD_CODECS = {"utf_7", "punycode", "idna", "unicode_escape", "raw_unicode_escape", "undefined", "mbcs", "oem"}
_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
_REPLACED = "\N{REPLACEMENT CHARACTER}".encode()


class Refused(Exception):
    """The file goes beyond what is read; the message says how."""


@dataclass(slots=True)
class Notes:
    """Repairs that were made: how often, and the line of the first."""

    found: dict[str, tuple[int, int]] = field(default_factory=dict)

    def add(self, what: str, line: int, times: int = 1) -> None:
        count, first = self.found.get(what, (0, line))
        self.found[what] = (count + times, first)

    def told(self) -> Iterator[tuple[str, int]]:
        """Sentences with the line of their first place."""
        for what, (count, line) in self.found.items():
            yield (what if count == 1 else f"{what} ({count:,} times)"), line


def make_parser() -> expat.XMLParserType:
    parser = expat.ParserCreate("utf-8")
    parser.buffer_text = True
    parser.buffer_size = 1 << 16
    parser.EntityDeclHandler = _refuse_entity
    return parser


def _refuse_entity(name: str, *_: object) -> None:
    raise Refused(f'it declares the entity "{name[:40]}"; entities are never expanded')


def feed(
    parser: expat.XMLParserType,
    chunks: Iterable[bytes],
    explain: Callable[[expat.ExpatError], str],
    notes: Notes,
    watch: Callable[[], None] = lambda: None,
) -> str | None:
    """Parse everything; None when it was read to its end, else why it cannot be trusted.

    `watch` is called after every 64 KiB and may refuse the rest.
    """
    size = 0  # of what expat was given
    token = bytearray()  # what expat has of a tag that is not yet complete
    skip = b""  # what ends a value that is being cut
    clean = _clean(_limited(chunks), notes)
    try:
        for piece in clean:
            if skip:
                at = piece.find(skip)
                if at < 0:
                    continue
                piece, skip = piece[at:], b""
            parser.Parse(piece, False)
            watch()
            size += len(piece)
            pending = size - max(parser.CurrentByteIndex, 0)
            token += piece
            del token[: len(token) - pending]
            if pending > 2 * MOST_TOKEN:
                raise Refused(f"one tag is larger than {2 * MOST_TOKEN:,} bytes")
            if pending > MOST_TOKEN:
                skip = _end_of_value(bytes(token))
                notes.add(f"a value larger than {MOST_TOKEN:,} bytes was cut", parser.CurrentLineNumber)
        if size == 0:
            return "the file is empty"
        parser.Parse(b"", True)
    except Refused as refusal:
        return str(refusal)
    except expat.ExpatError as error:
        if error.code == expat.errors.codes[expat.errors.XML_ERROR_JUNK_AFTER_DOC_ELEMENT]:
            return _after_the_end(parser, piece, size, clean, notes)
        return explain(error)
    except (LookupError, UnicodeError, ValueError) as error:
        return f"its text encoding cannot be read: {error}"
    return None


def _limited(chunks: Iterable[bytes]) -> Iterator[bytes]:
    size = 0
    for chunk in chunks:
        size += len(chunk)
        if size > MOST_BYTES:
            raise Refused(f"the file is larger than {MOST_BYTES:,} bytes")
        yield chunk


def _end_of_value(token: bytes) -> bytes:
    """What ends the value or comment in which an unfinished tag stops."""
    if token.startswith(b"<!--"):
        return b"-->"
    if token.startswith(b"<?"):
        return b"?>"
    at = 0
    while (opening := re.compile(rb"[\"']").search(token, at)) is not None:
        quote = opening[0]
        at = token.find(quote, opening.end()) + 1
        if at == 0:
            return quote
    raise Refused(f"one tag is larger than {MOST_TOKEN:,} bytes")


def _after_the_end(
    parser: expat.XMLParserType, piece: bytes, size: int, rest: Iterator[bytes], notes: Notes
) -> str | None:
    tail = piece[max(0, parser.ErrorByteIndex - size) :]
    if b"<" in tail or any(b"<" in more for more in rest):
        return f"more elements follow its end at line {parser.ErrorLineNumber}"
    notes.add("text after its end was left out", parser.ErrorLineNumber)
    return None


def _clean(chunks: Iterator[bytes], notes: Notes) -> Iterator[bytes]:
    """The document as well-formed UTF-8, without what stands before it, in pieces of at most 64 KiB."""
    head, encoding = _opening(chunks, notes)
    in_cdata, line, kept = False, 1, b""
    for data in _utf8(head, chunks, encoding, notes):
        data, kept = kept + data, b""
        opened = data.find(b"<", data.rfind(b">") + 1)
        if opened >= 0 and len(data) - opened < _CHUNK:  # a tag that is not complete: it is looked at as a whole
            data, kept = data[:opened], data[opened:]
        elif (unfinished := _UNFINISHED.search(data, max(0, len(data) - 16))) is not None:
            data, kept = data[: unfinished.start()], data[unfinished.start() :]
        data, in_cdata = _mended(data, in_cdata, line, notes)
        line += data.count(b"\n")
        for at in range(0, len(data), _CHUNK):
            yield data[at : at + _CHUNK]
    if kept:
        yield _mended(kept, in_cdata, line, notes)[0]


def _mended(data: bytes, in_cdata: bool, line: int, notes: Notes) -> tuple[bytes, bool]:
    def noted(what: str, at: int, times: int = 1) -> None:
        notes.add(what, line + data.count(b"\n", 0, at), times)

    if len(data.translate(None, _CONTROL)) != len(data) or (not data.isascii() and b"\xef\xbf" in data):
        first = _BAD.search(data)
        if first is not None:
            noted("a character that XML forbids was replaced", first.start(), len(_BAD.findall(data)))
            data = _BAD.sub(lambda m: b"" if len(m[0]) > 1 and m[0][0] == 0x1B else _REPLACED, data)
    if not in_cdata and _MAYBE_LESS.search(data) is not None:
        data = _without_less(data, noted)
    if b"&#" in data:

        def checked(m: re.Match[bytes]) -> bytes:
            code = int(m[1], 16) if m[1] else int(m[2])
            if code in (9, 10, 13) or 32 <= code <= 0xD7FF or 0xE000 <= code <= 0xFFFD or 0x10000 <= code <= 0x10FFFF:
                return m[0]
            noted("a character that XML forbids was replaced", m.start())
            return _REPLACED

        data = _REFERENCE.sub(checked, data)
    if b"]]>" not in data and not in_cdata and b"<![CDATA[" not in data:
        return _escaped(data, noted, 0), False
    if b"]]>" not in data and in_cdata:
        return data, True
    parts, at = [], 0
    while at < len(data):
        if in_cdata:
            end = data.find(b"]]>", at)
            stop = len(data) if end < 0 else end + 3
            parts.append(data[at:stop])
            in_cdata = end < 0
        else:
            begin = data.find(b"<![CDATA[", at)
            stop = len(data) if begin < 0 else begin + 9
            text = data[at:stop]
            if b"]]>" in text:
                noted("]]> in text was escaped", at + text.find(b"]]>"), text.count(b"]]>"))
                text = text.replace(b"]]>", b"]]&gt;")
            parts.append(_escaped(text, noted, at))
            in_cdata = begin >= 0
        at = stop
    return b"".join(parts), in_cdata


def _without_less(data: bytes, noted: Callable[..., None]) -> bytes:
    """A bare `<` in the value of an attribute, escaped; in a tag alone, and before the first CDATA section."""
    at, end = 0, data.find(b"<![CDATA[")
    while (found := _LESS.search(data, at, len(data) if end < 0 else end)) is not None:
        place = found.end() - 1
        noted("a bare < in an attribute was escaped", place)
        data = data[:place] + b"&lt;" + data[place + 1 :]
        at, end = found.start(), end + 3 if end >= 0 else end
    return data


def _escaped(text: bytes, noted: Callable[..., None], at: int) -> bytes:
    if b"&" not in text or (first := _BARE.search(text)) is None:
        return text
    noted("a bare & was escaped", at + first.start(), len(_BARE.findall(text)))
    return _BARE.sub(b"&amp;", text)


def _opening(chunks: Iterator[bytes], notes: Notes) -> tuple[bytes, str]:
    """The first bytes from the document's begin on, and the encoding of the whole."""
    head = b""
    for chunk in chunks:
        head += chunk
        if len(head) >= _HEAD and (head.lstrip(b" \t\r\n")[:1] in b"<\xff\xfe\xef\0" or _BEGIN.search(head)):
            break
        if len(head) > _MOST_NOISE:
            break
    for mark, encoding in _MARKS:
        if head.startswith(mark):
            if encoding != "utf-8":
                return head, encoding
            head = head[3:]
            break
    if head[:4] in (b"<\0?\0", b"<\0t\0") or head[:4] in (b"\0<\0?", b"\0<\0t"):
        return head, "utf-16-le" if head[0] else "utf-16-be"
    body = head.lstrip(b" \t\r\n\0")
    if body and not body.startswith(b"<") and (begin := _BEGIN.search(body)):
        notes.add(f"{begin.start():,} bytes before the document were left out", 1)
        body = body[begin.start() :]
    declared = _DECLARED.match(body)
    if declared is None:
        return body, "utf-8"
    name = declared[1].decode("ascii", "replace")
    codec = codecs.lookup(name).name.replace("-", "_")
    if codec in _ODD_CODECS:
        raise LookupError(f"unknown encoding: {name}")
    if codec.startswith(("utf_16", "utf_32")):  # it was read as bytes so far: it is not
        notes.add(f"it says that it is {name}, and is not; read as UTF-8", 1)
        return body, "utf-8"
    "".encode(codec)  # LookupError for what is no text encoding
    return body, "utf-8" if codec in ("utf_8", "ascii", "utf_8_sig") else codec


def _utf8(head: bytes, chunks: Iterator[bytes], encoding: str, notes: Notes) -> Iterator[bytes]:
    line = 1
    if encoding != "utf-8":
        decoder = codecs.getincrementaldecoder(encoding)("replace")
        yield decoder.decode(head).encode()
        for chunk in chunks:
            yield decoder.decode(chunk).encode()
        yield decoder.decode(b"", True).encode()
        return
    rest = b""
    for chunk in itertools.chain((head,), chunks):
        data, rest = rest + chunk, b""
        if not data.isascii():
            data, rest = _valid(data, line, notes)
        yield data
        line += data.count(b"\n")
    if rest:
        notes.add("bytes that are no UTF-8 were replaced", line)
        yield _REPLACED


def _valid(data: bytes, line: int, notes: Notes) -> tuple[bytes, bytes]:
    """The data as valid UTF-8, and the begin of a character at its end."""
    try:
        _, used = codecs.utf_8_decode(data, "strict", False)
    except UnicodeDecodeError as error:
        notes.add("bytes that are no UTF-8 were replaced", line + data.count(b"\n", 0, error.start))
        text, used = codecs.utf_8_decode(data, "replace", False)
        return text.encode(), data[used:]
    return data[:used], data[used:]


def explained(error: expat.ExpatError, *, seen_root: bool, found: str) -> str:
    """What expat says in the words of the rest; `found` is what was read so far, such as "12 cases"."""
    reason = expat.ErrorString(error.code)
    if error.code == expat.errors.codes[expat.errors.XML_ERROR_NO_ELEMENTS] or reason == "unclosed token":
        return f"it is cut off at line {error.lineno}" + (f" after {found}" if found else "")
    if not seen_root:
        return f"it is not XML ({reason} at line {error.lineno}, column {error.offset + 1})"
    return (
        f"it is not well-formed ({reason} at line {error.lineno}, column {error.offset + 1}) after {found or 'nothing'}"
    )
