"""Coverage in XML: Cobertura, Clover and JaCoCo, told apart by their elements."""

from __future__ import annotations

import re
from collections.abc import Iterable
from xml.parsers import expat

from myriant.core.coverage.model import MOST_LINE, Coverage, Lines
from myriant.core.results.model import Oddity
from myriant.core.xml import Notes, Refused, explained, feed, make_parser

_CONDITION = re.compile(r"\((\d+)\s*/\s*(\d+)\)")
_MOST_PATH = 4000
Attributes = dict[str, str]


class _Dialect:
    """What its elements mean. `files` are by the path that stands in the report, `sources` its base folders."""

    name = ""

    def __init__(self) -> None:
        self.files: dict[str, Lines] = {}
        self.sources: list[str] = []
        self.current: Lines | None = None
        self.bad = 0

    def start(self, element: str, attributes: Attributes) -> None:
        raise NotImplementedError

    def end(self, element: str, text: str) -> None:
        raise NotImplementedError

    def number(self, attributes: Attributes, key: str) -> int | None:
        """A line's number; one that cannot be is counted and not believed."""
        try:
            number = int(attributes[key])
        except (KeyError, ValueError):
            number = 0
        if not 0 < number <= MOST_LINE:
            self.bad += 1
            return None
        return number

    def count(self, attributes: Attributes, key: str) -> int | None:
        try:
            return int(float(attributes[key]))
        except (KeyError, ValueError, OverflowError):
            self.bad += 1
            return None

    def branches(self, number: int, covered: int, valid: int) -> None:
        assert self.current is not None
        known = self.current.branches.get(number, (0, 0))
        valid = min(max(valid, 0), MOST_LINE)
        self.current.branches[number] = (max(known[0], min(max(covered, 0), valid)), max(known[1], valid))


class _Cobertura(_Dialect):
    """coverage / sources / source; packages / package / classes / class / lines / line, and methods / method / lines.

    A class's own lines are taken; those of its methods only where it has none: they repeat lines, and name some (a
    function's head) that cannot be run. Several classes may share a file.
    """

    name = "cobertura"

    def __init__(self) -> None:
        super().__init__()
        self.path = ""
        self.in_methods = 0
        self.own: dict[int, tuple[int, Attributes]] = {}
        self.of_methods: dict[int, tuple[int, Attributes]] = {}
        self.method: Attributes | None = None
        self.of_method: dict[int, int] = {}  # hits by line

    def start(self, element: str, attributes: Attributes) -> None:
        if element == "line" and self.path:
            number = self.number(attributes, "number")
            hits = self.count(attributes, "hits") if number is not None else None
            if number is not None and hits is not None:
                if self.method is not None:
                    self.of_method[number] = max(hits, self.of_method.get(number, 0))
                rows = self.of_methods if self.in_methods else self.own
                before = rows.get(number)
                rows[number] = (
                    max(hits, before[0]) if before else hits,
                    {**(before[1] if before else {}), **attributes},
                )
        elif element == "class":
            self.path = attributes.get("filename", "(unnamed)")[:_MOST_PATH] or "(unnamed)"
            self.own, self.of_methods, self.in_methods = {}, {}, 0
        elif element == "methods":
            self.in_methods += 1
        elif element == "method" and self.path:
            self.method, self.of_method = attributes, {}

    def end(self, element: str, text: str) -> None:
        if element == "source":
            self.sources.append(text.strip()[:_MOST_PATH])
        elif element == "methods":
            self.in_methods -= 1
        elif element == "method" and self.path and self.method is not None:
            name = f"{self.method.get('name', '')}{self.method.get('signature', '')}"
            called = max(self.of_method.values(), default=0) or int(self.method.get("line-rate", "").strip("0.") != "")
            hits = self.count(self.method, "hits") if "hits" in self.method else called
            self.files.setdefault(self.path, Lines()).called(min(self.of_method, default=0), name, hits or 0)
            self.method = None
        elif element == "class" and self.path:
            self.current = self.files.setdefault(self.path, Lines())
            for number, (hits, attributes) in (self.own or self.of_methods).items():
                self.current.hit(number, hits)
                found = _CONDITION.search(attributes.get("condition-coverage", ""))
                if found and attributes.get("branch", "").lower() == "true":
                    self.branches(number, int(found[1]), int(found[2]))
                    missing = attributes.get("missing-branches", "")
                    if missing and number not in self.current.arms:
                        self.current.arms[number] = dict.fromkeys(missing.split(","), False)
            self.path, self.current = "", None


class _Clover(_Dialect):
    """coverage / project / package / file / line of type stmt, cond or method.

    Two readings of truecount are in use: with a `count` beside it, branches taken and not taken; without, how often
    a condition was true and how often false. Some mean the number of ways that were taken even without: what the file
    states of itself tells. Methods are no lines that can be run, unless a file has nothing else.
    """

    name = "clover"

    def __init__(self) -> None:
        super().__init__()
        self.methods: dict[int, int] = {}
        self.conditions: list[tuple[int, int, int]] = []  # line, how often true, how often false; or ways taken
        self.stated: int | None = None  # conditions' ways that were taken, as the file says of itself

    def start(self, element: str, attributes: Attributes) -> None:
        if element == "file":
            path = attributes.get("path") or attributes.get("name") or "(unnamed)"
            self.current, self.methods = self.files.setdefault(path[:_MOST_PATH], Lines()), {}
            self.conditions, self.stated = [], None
        elif element == "metrics" and self.current is not None and self.stated is None:
            told = attributes.get("coveredconditionals", "")
            self.stated = int(told) if told.isascii() and told.isdigit() and len(told) < 10 else None
        elif element == "line" and self.current is not None:
            self.line(attributes)

    def line(self, attributes: Attributes) -> None:
        assert self.current is not None
        number = self.number(attributes, "num")
        if number is None:
            return
        kind, taken, left = attributes.get("type", "stmt"), attributes.get("truecount"), attributes.get("falsecount")
        if kind == "cond" and "count" not in attributes and taken is not None and left is not None:
            yes, no = self.count(attributes, "truecount"), self.count(attributes, "falsecount")
            if yes is not None and no is not None:
                self.current.hit(number, max(yes, 0) + max(no, 0))
                self.conditions.append((number, yes, no))
            return
        hits = self.count(attributes, "count")
        if hits is None:
            return
        if kind == "method":
            self.methods[number] = max(hits, self.methods.get(number, 0))
            self.current.called(number, attributes.get("signature") or attributes.get("name") or "", hits)
            return
        self.current.hits[number] = max(hits, self.current.hits.get(number, 0))
        if kind == "cond" and taken is not None and left is not None:
            yes, no = self.count(attributes, "truecount"), self.count(attributes, "falsecount")
            if yes is not None and no is not None:
                self.branches(number, yes, yes + no)

    def end(self, element: str, text: str) -> None:
        if element == "file" and self.current is not None:
            self.settle(self.current)
            if not self.current.hits:
                self.current.hits = dict(self.methods)
            self.current = None

    def settle(self, file: Lines) -> None:
        """Read the conditions of a file in the way that gives what it states of itself."""
        both = sum((yes > 0) + (no > 0) for _, yes, no in self.conditions)
        ways = sum(min(max(yes, 0), 2) for _, yes, _ in self.conditions)
        if self.stated == ways != both and not any(no for *_, no in self.conditions):
            for number, yes, _ in self.conditions:
                self.branches(number, min(max(yes, 0), 2), 2)
            return
        for number, yes, no in self.conditions:
            self.branches(number, (yes > 0) + (no > 0), 2)
            arms = file.arms.setdefault(number, {"true": False, "false": False})
            file.arms[number] = {"true": arms["true"] or yes > 0, "false": arms["false"] or no > 0}


class _Jacoco(_Dialect):
    """report / group / package / sourcefile / line: instructions missed and covered (mi, ci), branches (mb, cb)."""

    name = "jacoco"

    def __init__(self) -> None:
        super().__init__()
        self.package = ""
        self.of_class = ""  # its simple name
        self.file = ""  # that a class is of
        self.method: Attributes | None = None

    def start(self, element: str, attributes: Attributes) -> None:
        if element == "package":
            self.package = attributes.get("name", "")[:_MOST_PATH].strip("/")
        elif element == "class":
            self.file = attributes.get("sourcefilename", "")[:_MOST_PATH]
            self.of_class = attributes.get("name", "").rpartition("/")[2]
        elif element == "method" and self.file:
            self.method = attributes
        elif element == "counter" and self.method is not None and attributes.get("type") == "METHOD":
            line = self.method.get("line", "")
            name = f"{self.of_class}.{self.method.get('name', '')}{self.method.get('desc', '')}"
            hits = self.count({"covered": "0", **attributes}, "covered") or 0
            lines = self.files.setdefault(f"{self.package}/{self.file}".lstrip("/"), Lines())
            lines.called(int(line) if line.isdigit() and len(line) < 9 else 0, name, hits)
        elif element == "sourcefile":
            name = attributes.get("name", "(unnamed)")[:_MOST_PATH]
            self.current = self.files.setdefault(f"{self.package}/{name}".lstrip("/"), Lines())
        elif element == "line" and self.current is not None:
            number = self.number(attributes, "nr")
            covered = self.count(attributes, "ci") if number is not None else None
            if number is None or covered is None:
                return
            self.current.hits[number] = max(covered, self.current.hits.get(number, 0))
            taken, missed = self.count({"cb": "0", **attributes}, "cb"), self.count({"mb": "0", **attributes}, "mb")
            if taken is not None and missed is not None and taken + missed > 0:
                self.branches(number, taken, taken + missed)

    def end(self, element: str, text: str) -> None:
        if element == "sourcefile":
            self.current = None
        elif element == "method":
            self.method = None
        elif element == "class":
            self.file = ""


class XmlReport:
    """A report while it is read: its dialect is known with the second element at the latest."""

    def __init__(self) -> None:
        self.parser = make_parser()
        self.parser.StartElementHandler = self._start
        self.parser.EndElementHandler = self._end
        self.parser.CharacterDataHandler = self._text
        self.dialect: _Dialect | None = None
        self.root = ""
        self.words: list[str] = []

    def read(self, chunks: Iterable[bytes]) -> tuple[str, Coverage, dict[str, Lines], list[str]]:
        """Format, problems, lines by the path in the report, base folders."""
        notes, result = Notes(), Coverage()
        reason = feed(self.parser, chunks, self._explain, notes)
        result.problems += [Oddity("warning", text, line) for text, line in notes.told()]
        files = self.dialect.files if self.dialect is not None else {}
        if reason is None and not files:
            reason = "the report names no file"
        elif reason is None and not any(lines.hits for lines in files.values()):
            reason = "the report names files, and not one line of them: have it written with its lines"
        if reason is not None:
            result.problems.append(Oddity("error", reason, self.parser.CurrentLineNumber))
        if self.dialect is not None and self.dialect.bad:
            result.problems.append(Oddity("warning", f"{self.dialect.bad} lines without a usable number or hits", 0))
        name = self.dialect.name if self.dialect is not None else "cobertura"
        return name, result, files, self.dialect.sources if self.dialect is not None else []

    def _explain(self, error: expat.ExpatError) -> str:
        files = len(self.dialect.files) if self.dialect is not None else 0
        return explained(error, seen_root=bool(self.root), found=f"{files} files" if files else "")

    def _start(self, element: str, attributes: Attributes) -> None:
        if not self.root:
            if element not in ("coverage", "report"):
                raise Refused(f"its root element is <{element[:40]}>, not <coverage> or <report>")
            self.root = element
            if element == "report":
                self.dialect = _Jacoco()
            elif "clover" in attributes:
                self.dialect = _Clover()
            return
        if self.dialect is None:
            self.dialect = _Clover() if element in ("project", "testproject") else _Cobertura()
        self.words = []
        self.dialect.start(element, attributes)

    def _text(self, text: str) -> None:
        if self.root == "coverage" and len(self.words) < 100:
            self.words.append(text)

    def _end(self, element: str) -> None:
        if self.dialect is not None:
            self.dialect.end(element, "".join(self.words))
        self.words = []
