"""Reading coverage reports: Cobertura XML and LCOV tracefiles, told apart by their content."""

from __future__ import annotations

import itertools
import re
from collections.abc import Iterable, Iterator, Sequence
from xml.parsers import expat

from myriant.core.coverage.model import Coverage, Lines
from myriant.core.coverage.paths import relative
from myriant.core.results.model import Oddity
from myriant.core.xml import MOST_BYTES, Notes, Refused, explained, feed, make_parser

MOST_LINE = 10_000_000  # the greatest line number that is believed
_CONDITION = re.compile(r"\((\d+)\s*/\s*(\d+)\)")


def format_of(head: bytes) -> str:
    """ "cobertura" or "lcov", by the first bytes."""
    return "cobertura" if head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith((b"<", b"\xff\xfe", b"\xfe\xff")) else "lcov"


def read_coverage(chunks: Iterable[bytes], roots: Sequence[str] = ("/workspace",)) -> tuple[str, Coverage]:
    """Read one report; its format and what it says. Never raises for what the file says: `Coverage.error` does.

    `roots` are absolute folders where the workspace lay when the report was written.
    """
    source = iter(chunks)
    head = next((c for c in source if c.strip()), b"")
    whole = itertools.chain([head], source)
    if not head:
        return "unknown", Coverage(problems=[Oddity("error", "the file is empty", 0)])
    if format_of(head) == "cobertura":
        return "cobertura", _Cobertura(roots).read(whole)
    return "lcov", _read_lcov(whole, roots)


class _Cobertura:
    """Cobertura XML: coverage / packages / package / classes / class / lines / line.

    The lines of a class are taken, those of its methods as well (some writers give only these), each once.
    """

    def __init__(self, roots: Sequence[str]) -> None:
        self.roots = roots
        self.result = Coverage()
        self.parser = make_parser()
        self.parser.StartElementHandler = self.start
        self.parser.EndElementHandler = self.end
        self.files: dict[str, Lines] = {}
        self.sources: list[str] = []
        self.text: list[str] | None = None
        self.current: Lines | None = None
        self.seen: set[int] = set()  # lines of the class that is open
        self.root = False
        self.bad = 0

    def read(self, chunks: Iterable[bytes]) -> Coverage:
        notes = Notes()
        reason = feed(self.parser, chunks, self.explain, notes)
        self.result.problems += [Oddity("warning", text, line) for text, line in notes.told()]
        if reason is None and not self.files:
            reason = "the report names no file"
        if reason is not None:
            self.result.problems.append(Oddity("error", reason, self.parser.CurrentLineNumber))
        if self.bad:
            self.result.problems.append(Oddity("warning", f"{self.bad} lines without a usable number or hits", 0))
        for path, lines in self.files.items():
            self.result.files[path] = lines.done()
        return self.result

    def explain(self, error: expat.ExpatError) -> str:
        return explained(error, seen_root=self.root, found=f"{len(self.files)} files" if self.files else "")

    def start(self, name: str, attributes: dict[str, str]) -> None:
        if not self.root:
            if name != "coverage":
                raise Refused(f"its root element is <{name[:40]}>, not <coverage>")
            self.root = True
        elif name == "line" and self.current is not None:
            self.line(attributes)
        elif name == "class":
            path = relative(attributes.get("filename", "(unnamed)")[:4000], self.roots, self.sources)
            self.current = self.files.setdefault(path, Lines())
            self.seen = set()
        elif name == "source":
            self.text = []
            self.parser.CharacterDataHandler = self.text.append

    def end(self, name: str) -> None:
        if name == "source" and self.text is not None:
            self.sources.append("".join(self.text).strip())
            self.text, self.parser.CharacterDataHandler = None, None
        elif name == "class":
            self.current = None

    def line(self, attributes: dict[str, str]) -> None:
        assert self.current is not None
        try:
            number, hits = int(attributes["number"]), int(float(attributes.get("hits", "")))
        except (KeyError, ValueError, OverflowError):
            self.bad += 1
            return
        if not 0 < number <= MOST_LINE:
            self.bad += 1
            return
        if number not in self.seen:  # the same line stands under a method and under its class
            self.seen.add(number)
            self.current.hit(number, hits)
        found = _CONDITION.search(attributes.get("condition-coverage", ""))
        if found and attributes.get("branch") == "true":
            covered, valid = self.current.branches.get(number, (0, 0))
            self.current.branches[number] = (
                max(covered, min(int(found[1]), MOST_LINE)),
                max(valid, min(int(found[2]), MOST_LINE)),
            )


def _read_lcov(chunks: Iterable[bytes], roots: Sequence[str]) -> Coverage:
    """LCOV tracefiles (geninfo(1)): SF, DA, BRDA, end_of_record; totals in the file are not believed."""
    result = Coverage()
    files: dict[str, Lines] = {}
    taken: dict[tuple[str, int], dict[str, bool]] = {}
    path: str | None = None
    bad = unknown = number = 0
    try:
        for raw in _lines(chunks):
            number += 1
            line = raw.strip()
            key, _, rest = line.partition(":")
            if line == "end_of_record":
                path = None
            elif key == "SF":
                path = relative(rest.strip()[:4000], roots)
                files.setdefault(path, Lines())
            elif key == "DA" and path is not None:
                bad += not _line_hits(files[path], rest)
            elif key == "BRDA" and path is not None:
                bad += not _branch(taken, path, rest)
            elif (
                line
                and not re.fullmatch(r"(TN|VER|FN|FNDA|FNF|FNH|FNL|FNA|LF|LH|BRF|BRH|MCDC|MCF|MCH)", key)
                and not line.startswith("#")
            ):
                unknown += 1
                if not files:
                    raise Refused("it is neither Cobertura XML nor an LCOV tracefile")
    except Refused as refusal:
        result.problems.append(Oddity("error", str(refusal), number))
        return result
    for (where, at), branches in taken.items():
        files[where].branches[at] = (sum(branches.values()), len(branches))
    result.files = {p: lines.done() for p, lines in files.items()}
    if not files:
        result.problems.append(Oddity("error", "the report names no file", number))
    elif path is not None:
        result.problems.append(
            Oddity("error", f"it is cut off at line {number}: the record of {path} has no end", number)
        )
    if bad:
        result.problems.append(Oddity("warning", f"{bad} lines without a usable number or hits", 0))
    if unknown:
        result.problems.append(Oddity("warning", f"{unknown} lines of no known kind", 0))
    return result


def _line_hits(lines: Lines, text: str) -> bool:
    parts = text.split(",")
    try:
        number, hits = int(parts[0]), int(float(parts[1]))
    except (IndexError, ValueError, OverflowError):
        return False
    if not 0 < number <= MOST_LINE:
        return False
    lines.hit(number, hits)
    return True


def _branch(taken: dict[tuple[str, int], dict[str, bool]], path: str, text: str) -> bool:
    parts = text.rsplit(",", 1)
    head = parts[0].split(",", 1)
    if len(parts) != 2 or len(head) != 2 or not head[0].strip().isdigit() or not 0 < int(head[0]) <= MOST_LINE:
        return False
    branches = taken.setdefault((path, int(head[0])), {})
    branches[head[1]] = branches.get(head[1], False) or parts[1].strip() not in ("-", "0")
    return True


def _lines(chunks: Iterable[bytes]) -> Iterator[str]:
    rest, size = b"", 0
    for chunk in chunks:
        size += len(chunk)
        if size > MOST_BYTES:
            raise Refused(f"the file is larger than {MOST_BYTES:,} bytes")
        pieces = (rest + chunk).split(b"\n")
        rest = pieces.pop()
        if len(rest) > 1 << 20:
            raise Refused("one line is larger than 1 MiB")
        for piece in pieces:
            yield piece.decode("utf-8-sig", "replace")
    if rest:
        yield rest.decode("utf-8-sig", "replace")
