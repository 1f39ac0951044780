"""Feeding XML to expat safely: no entities, no network, bounded size, depth and token length.

expat needs quadratic time in the length of one unfinished token (a tag with its attributes), so a token over
4 MiB ends the reading.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from xml.parsers import expat

MOST_DEPTH = 200
MOST_BYTES = 1 << 30
MOST_TOKEN = 4 << 20
_CHUNK = 1 << 16


class Refused(Exception):
    """The file goes beyond what is read; the message says how."""


def make_parser() -> expat.XMLParserType:
    parser = expat.ParserCreate()
    parser.buffer_text = True
    parser.buffer_size = 1 << 16
    parser.EntityDeclHandler = _refuse_entity
    return parser


def _refuse_entity(name: str, *_: object) -> None:
    raise Refused(f'it declares the entity "{name[:40]}"; entities are never expanded')


def feed(
    parser: expat.XMLParserType, chunks: Iterable[bytes], explain: Callable[[expat.ExpatError], str]
) -> str | None:
    """Parse everything; None when it was read to its end, else why it cannot be trusted."""
    size, begun = 0, False
    try:
        for chunk in chunks:
            if not begun:
                chunk = chunk.lstrip(b" \t\r\n")
                if not chunk:
                    continue
                begun = True
            for at in range(0, len(chunk), _CHUNK):
                piece = chunk[at : at + _CHUNK]
                size += len(piece)
                if size > MOST_BYTES:
                    raise Refused(f"the file is larger than {MOST_BYTES:,} bytes")
                parser.Parse(piece, False)
                if size - max(parser.CurrentByteIndex, 0) > MOST_TOKEN:
                    raise Refused(f"one tag or attribute is larger than {MOST_TOKEN:,} bytes")
        if not begun:
            return "the file is empty"
        parser.Parse(b"", True)
    except Refused as refusal:
        return str(refusal)
    except expat.ExpatError as error:
        return explain(error)
    except (LookupError, UnicodeDecodeError, ValueError) as error:
        return f"its text encoding cannot be read: {error}"
    return None


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
