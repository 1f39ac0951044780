"""Coverage in XML: Cobertura, Clover and JaCoCo, told apart by their elements."""

from __future__ import annotations

import re
from collections.abc import Iterable
from xml.parsers import expat

from myriant.core.coverage.model import MOST_HITS, MOST_LINE, Coverage, Lines
from myriant.core.digits import number_of
from myriant.core.results.model import Oddity
from myriant.core.xml import Notes, Refused, explained, feed, make_parser

_CONDITION = re.compile(r"\((\d+)\s*/\s*(\d+)\)")
_MOST_PATH = 4000
Attributes = dict[str, str]


class _Dialect:
    """What its elements mean. `files` are by the path that stands in the report, `sources` its base folders."""

    name = ""

    def __init__(self, parser: expat.XMLParserType) -> None:
        self.parser = parser
        self.files: dict[str, Lines] = {}
        self.sources: list[str] = []
        self.current: Lines | None = None
        self.bad = 0

    def start(self, element: str, attributes: Attributes) -> None:
        raise NotImplementedError

    def end(self, element: str) -> None:
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
        return self.counted(attributes.get(key, ""))

    def counted(self, text: str) -> int | None:
        """A count that is written somehow: 3, 3.0, 1e3; one that cannot be is counted and not believed."""
        try:
            return int(text)
        except ValueError:
            try:
                return int(float(text))
            except (ValueError, OverflowError):
                self.bad += 1
                return None

    def pair(self, attributes: Attributes, line: str, hits: str) -> tuple[int, int] | None:
        """A line's number and hits, within what is kept; None where they cannot be believed."""
        try:
            number, count = int(attributes[line]), int(attributes[hits])
        except (KeyError, ValueError):
            found = self.number(attributes, line)
            told = self.count(attributes, hits) if found is not None else None
            if found is None or told is None:
                return None
            number, count = found, told
        if 0 < number <= MOST_LINE:
            return number, count if 0 <= count <= MOST_HITS else min(max(count, 0), MOST_HITS)
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

    def __init__(self, parser: expat.XMLParserType) -> None:
        super().__init__(parser)
        self.path = ""
        self.in_methods = 0
        self.own: dict[int, int] = {}  # hits by line
        self.of_methods: dict[int, int] = {}
        self.branched: dict[int, Attributes] = {}  # by line, of the class; of its methods below
        self.branched_in_methods: dict[int, Attributes] = {}
        self.method: Attributes | None = None
        self.of_method: dict[int, int] = {}  # hits by line
        self.words: list[str] = []

    def start(self, element: str, attributes: Attributes) -> None:
        if element == "line":
            if self.path and (found := self.pair(attributes, "number", "hits")) is not None:
                number, hits = found
                rows = self.of_methods if self.in_methods else self.own
                rows[number] = max(hits, rows[number]) if number in rows else hits
                if len(attributes) > 2 or self.method is not None:
                    self.more(number, hits, attributes)
        elif element == "class":
            self.path = attributes.get("filename", "(unnamed)")[:_MOST_PATH] or "(unnamed)"
            self.own, self.of_methods, self.in_methods = {}, {}, 0
            self.branched, self.branched_in_methods = {}, {}
        elif element == "methods":
            self.in_methods += 1
        elif element == "method" and self.path:
            self.method, self.of_method = attributes, {}
        elif element == "source":
            self.words = []
            self.parser.CharacterDataHandler = self.text

    def text(self, text: str) -> None:
        if len(self.words) < 100:
            self.words.append(text)

    def more(self, number: int, hits: int, attributes: Attributes) -> None:
        """What else a line says: to which method it belongs, and its branches."""
        if self.method is not None:
            self.of_method[number] = max(hits, self.of_method.get(number, 0))
        if "condition-coverage" in attributes:
            branched = self.branched_in_methods if self.in_methods else self.branched
            branched[number] = {**branched.get(number, {}), **attributes}

    def end(self, element: str) -> None:
        if element == "line":
            return
        if element == "source":
            self.parser.CharacterDataHandler = None
            self.sources.append("".join(self.words).strip()[:_MOST_PATH])
        elif element == "methods":
            self.in_methods -= 1
        elif element == "method" and self.path and self.method is not None:
            name = f"{self.method.get('name', '')}{self.method.get('signature', '')}"
            called = max(self.of_method.values(), default=0) or int(self.method.get("line-rate", "").strip("0.") != "")
            hits = self.count(self.method, "hits") if "hits" in self.method else called
            self.files.setdefault(self.path, Lines()).called(min(self.of_method, default=0), name, hits or 0)
            self.method = None
        elif element == "class" and self.path:
            self.of_class()
            self.path, self.current = "", None

    def of_class(self) -> None:
        """A class is over: what it says of its file."""
        self.current = self.files.setdefault(self.path, Lines())
        rows, branched = (self.own, self.branched) if self.own else (self.of_methods, self.branched_in_methods)
        if self.current.hits:
            for number, hits in rows.items():
                self.current.hit(number, hits)
        else:
            self.current.hits = rows
        for number, attributes in branched.items():
            found = _CONDITION.search(attributes["condition-coverage"])
            if found and attributes.get("branch", "").lower() == "true":
                self.branches(number, int(found[1]), int(found[2]))
                missing = attributes.get("missing-branches", "")
                if missing and number not in self.current.arms:
                    self.current.arms[number] = dict.fromkeys(missing.split(","), False)


class _Clover(_Dialect):
    """coverage / project / package / file / line of type stmt, cond or method.

    Two readings of truecount are in use: with a `count` beside it, branches taken and not taken; without, how often
    a condition was true and how often false. Some mean the number of ways that were taken even without: what the file
    states of itself tells. Methods are no lines that can be run, unless a file has nothing else.
    """

    name = "clover"

    def __init__(self, parser: expat.XMLParserType) -> None:
        super().__init__(parser)
        self.methods: dict[int, int] = {}
        self.conditions: list[tuple[int, int, int]] = []  # line, how often true, how often false; or ways taken
        self.stated: int | None = None  # conditions' ways that were taken, as the file says of itself

    def start(self, element: str, attributes: Attributes) -> None:
        if element == "line":
            if self.current is not None:
                if attributes.get("type", "stmt") != "stmt":
                    self.line(self.current, attributes)
                elif (found := self.pair(attributes, "num", "count")) is not None:
                    number, hits = found
                    rows = self.current.hits
                    rows[number] = max(hits, rows[number]) if number in rows else hits
        elif element == "file":
            path = attributes.get("path") or attributes.get("name") or "(unnamed)"
            self.current, self.methods = self.files.setdefault(path[:_MOST_PATH], Lines()), {}
            self.conditions, self.stated = [], None
        elif element == "metrics" and self.current is not None and self.stated is None:
            told = attributes.get("coveredconditionals", "")
            self.stated = number_of(told)

    def line(self, file: Lines, attributes: Attributes) -> None:
        """One that is a condition or a method."""
        number = self.number(attributes, "num")
        if number is None:
            return
        kind, taken, left = attributes["type"], attributes.get("truecount"), attributes.get("falsecount")
        if kind == "cond" and "count" not in attributes and taken is not None and left is not None:
            yes, no = self.count(attributes, "truecount"), self.count(attributes, "falsecount")
            if yes is not None and no is not None:
                file.hit(number, max(yes, 0) + max(no, 0))
                self.conditions.append((number, yes, no))
            return
        hits = self.count(attributes, "count")
        if hits is None:
            return
        if kind == "method":
            self.methods[number] = max(hits, self.methods.get(number, 0))
            file.called(number, attributes.get("signature") or attributes.get("name") or "", hits)
            return
        file.hits[number] = max(hits, file.hits.get(number, 0))
        if kind == "cond" and taken is not None and left is not None:
            yes, no = self.count(attributes, "truecount"), self.count(attributes, "falsecount")
            if yes is not None and no is not None:
                self.branches(number, yes, yes + no)

    def end(self, element: str) -> None:
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

    def __init__(self, parser: expat.XMLParserType) -> None:
        super().__init__(parser)
        self.package = ""
        self.of_class = ""  # its simple name
        self.file = ""  # that a class is of
        self.method: Attributes | None = None

    def start(self, element: str, attributes: Attributes) -> None:
        if element == "line":
            if self.current is not None and (found := self.pair(attributes, "nr", "ci")) is not None:
                number, covered = found
                known = self.current.hits.get(number)
                self.current.hits[number] = covered if known is None else max(covered, known)
                taken, missed = attributes.get("cb", "0"), attributes.get("mb", "0")
                if not taken == missed == "0":
                    self.ways(number, taken, missed)
        elif element == "package":
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
            lines.called(number_of(line, 8) or 0, name, hits)
        elif element == "sourcefile":
            name = attributes.get("name", "(unnamed)")[:_MOST_PATH]
            self.current = self.files.setdefault(f"{self.package}/{name}".lstrip("/"), Lines())

    def ways(self, number: int, taken: str, missed: str) -> None:
        ways, left = self.counted(taken), self.counted(missed)
        if ways is not None and left is not None and ways + left > 0:
            self.branches(number, ways, ways + left)

    def end(self, element: str) -> None:
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
        self.dialect: _Dialect | None = None
        self.root = ""

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
                self._read_as(_Jacoco(self.parser))
            elif "clover" in attributes:
                self._read_as(_Clover(self.parser))
            return
        kind = _Clover if element in ("project", "testproject") else _Cobertura
        self._read_as(kind(self.parser))
        assert self.dialect is not None
        self.dialect.start(element, attributes)

    def _read_as(self, dialect: _Dialect) -> None:
        """From here on the dialect hears every element itself."""
        self.dialect = dialect
        self.parser.StartElementHandler = dialect.start
        self.parser.EndElementHandler = dialect.end
