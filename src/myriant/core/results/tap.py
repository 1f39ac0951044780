"""A reader of TAP, the Test Anything Protocol, versions 12 to 14 (testanything.org, "TAP 14 specification").

A subtest's points are cases below the name of the point that closes it, or that opens it with a brace; such a point is
no case of its own, unless it failed and none below it did. What a plan says must be there must be there: without a plan
nothing is trusted.
"""

from __future__ import annotations

import codecs
import math
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from myriant.core.results.identity import untimed
from myriant.core.results.model import Detail, Oddity, Outcome, Results
from myriant.core.xml import MOST_BYTES, Refused

MOST_CASES = 2_000_000
MOST_LINE = 1 << 20
MOST_TEXT = 256 * 1024
MOST_DEPTH = 200
MOST_NAME = 2_000

_POINT = re.compile(r"(not )?ok\b(?:[ \t]+(\d{1,12}))?(?:[ \t]*-)?[ \t]*(.*)$", re.S)
_PLAN = re.compile(r"1\.\.(\d{1,12})\s*(?:#\s*(?:skip\S*)?\s*(.*))?$", re.IGNORECASE)
_DIRECTIVE = re.compile(r"(?<!\\)(?:^|\s)#\s*(skip|todo)\S*\s*(.*)$", re.IGNORECASE)
_TIME = re.compile(r"(?:^|\s)#\s*time\s*=\s*([\d.]+)\s*(ms|s)\b.*$", re.IGNORECASE)
_VERSION = re.compile(r"TAP version (\d{1,6})\s*$")
_KNOWN = (12, 13, 14)
_BAIL = re.compile(r"Bail out!\s*(.*)")
_KEY = re.compile(r"([A-Za-z_][\w -]*):(?:\s+(.*))?$")
BEGIN = re.compile(
    rb"^(?:\xef\xbb\xbf)?(?:[ \t]*)(?:TAP version \d+|1\.\.\d+(?:\s|$)|(?:not )?ok(?: +\d+| +-|$))", re.MULTILINE
)


@dataclass(slots=True)
class _Point:
    """A point of a stream, with the points of the subtest that it closes."""

    outcome: Outcome
    name: str
    line: int
    note: str = ""
    seconds: float = math.nan
    words: list[str] = field(default_factory=list)  # diagnostics below it
    kept: int = 0
    yaml: bool = False
    below: list[_Point] = field(default_factory=list)


@dataclass(slots=True)
class _Stream:
    """The stream of one subtest, or the outermost."""

    points: list[_Point] = field(default_factory=list)
    plan: int | None = None
    skipped: str | None = None
    line: int = 0
    last: int = 0  # the number of the last point


def read_tap(chunks: Iterable[bytes]) -> Results:
    """Read one stream. Never raises for what it says: `Results.error` tells why it cannot be trusted."""
    reader = _Reader()
    try:
        for line in _lines(chunks):
            reader.line(line)
    except Refused as refusal:
        reader.fault(str(refusal))
    reader.finish()
    return reader.results


class _Reader:
    def __init__(self) -> None:
        self.results = Results()
        self.streams = [_Stream()]
        self.number = 0
        self.cases = 0
        self.point: _Point | None = None  # the newest
        self.indent = 0  # of its line
        self.yaml = ""  # the indentation of the YAML block that is open
        self.in_yaml = False
        self.odd: dict[str, tuple[int, int]] = {}
        self.open: dict[int, _Point] = {}  # by depth, the point whose subtest follows it in braces

    def fault(self, message: str) -> None:
        self.results.problems.append(Oddity("error", message, self.number))

    def note(self, what: str) -> None:
        count, line = self.odd.get(what, (0, self.number))
        self.odd[what] = (count + 1, line)

    def line(self, raw: str) -> None:
        self.number += 1
        text = raw.rstrip("\r\n")
        body = text.lstrip(" \t")
        indent = text[: len(text) - len(body)]
        if self.in_yaml:
            if body.rstrip() == "..." and len(indent) <= len(self.yaml):
                self.in_yaml = False
            else:
                self.keep(text.removeprefix(self.yaml))
            return
        depth = len(indent.replace("\t", "    ")) // 4
        if body.rstrip() == "---" and self.point is not None and len(indent) > self.indent:
            self.in_yaml, self.yaml, self.point.yaml = True, indent, True
        elif (bail := _BAIL.match(body)) is not None:
            self.fault(f"it bailed out: {bail[1][:500]}".rstrip(": "))
        elif (point := _POINT.match(body)) is not None and (point[2] or point[3] or body in ("ok", "not ok")):
            self.test(point, depth)
            self.indent = len(indent)
        elif (plan := _PLAN.match(body)) is not None:
            self.planned(plan, depth)
        elif body.startswith("#"):
            words = body[1:].removeprefix(" ")
            if words.startswith("Subtest"):
                self.point = None
            elif self.point is not None:
                self.keep(words)
        elif body.rstrip() == "}" and depth in self.open:
            self.close(depth)
        elif (version := _VERSION.match(body)) is not None and int(version[1]) not in _KNOWN:
            self.note(f"TAP version {version[1]} is not known; read as version 14")

    def keep(self, words: str) -> None:
        if self.point is not None and self.point.kept < MOST_TEXT:
            self.point.words.append(words[: MOST_TEXT - self.point.kept])
            self.point.kept += len(words) + 1

    def stream(self, depth: int) -> _Stream:
        if depth > MOST_DEPTH:
            raise Refused(f"subtests are nested more than {MOST_DEPTH} deep")
        while len(self.streams) <= depth:
            self.streams.append(_Stream(line=self.number))
        return self.streams[depth]

    def test(self, found: re.Match[str], depth: int) -> None:
        stream = self.stream(depth)
        self.cases += 1
        if self.cases > MOST_CASES:
            raise Refused(f"more than {MOST_CASES:,} points in one file")
        bad, number, rest = found[1] is not None, found[2], found[3].rstrip()
        follows = rest.endswith("{")  # a subtest whose points come after it, up to a brace
        rest = rest[:-1].rstrip() if follows else rest
        if depth in self.open:
            self.close(depth)
        stream.last = int(number) if number else stream.last + 1
        if number and int(number) != len(stream.points) + 1:
            self.note("points whose number is not the next one")
        name, note, seconds, outcome = _described(rest, bad)
        if bad and outcome is Outcome.SKIPPED and not note.startswith("todo"):
            self.note("points that say both not ok and skip; they count as skipped")
        elif not bad and outcome is Outcome.PASSED and note:
            self.note("points that are to do and passed")
        point = _Point(outcome, (name or f"{stream.last}")[:MOST_NAME], self.number, note, seconds)
        if len(self.streams) > depth + 1:
            point.below = self.closed(depth + 1, bad=bad)
        stream.points.append(point)
        self.point = point
        if follows:
            self.open[depth] = point

    def close(self, depth: int) -> None:
        """A subtest in braces is over: its points belong to the point before it."""
        point = self.open.pop(depth)
        if len(self.streams) > depth + 1:
            point.below = self.closed(depth + 1, bad=point.outcome is Outcome.FAILED)
        self.point = None

    def closed(self, depth: int, *, bad: bool) -> list[_Point]:
        """The points of the streams from `depth` on, which a point above them ends."""
        if len(self.streams) > depth + 1:
            self.note("subtests that no point closes")
        inner = [p for stream in self.streams[depth:] for p in stream.points]
        if not bad:  # a point that says "not ok" holds by itself
            for stream in self.streams[depth:]:
                self.compare_plan(stream, "a subtest")
        del self.streams[depth:]
        return inner

    def planned(self, plan: re.Match[str], depth: int) -> None:
        stream = self.stream(depth)
        if stream.plan is not None and depth == 0:
            self.fault("it has two plans")
        stream.plan = int(plan[1])
        stream.skipped = (plan[2] or "") if stream.plan == 0 else None

    def compare_plan(self, stream: _Stream, what: str) -> None:
        if stream.plan is None:
            self.fault(f"{what} has no plan: it may have been cut off")
        elif stream.plan != len(stream.points):
            self.fault(f"{what} has {len(stream.points)} points, its plan says {stream.plan}")

    def finish(self) -> None:
        outer = self.streams[0]
        if len(self.streams) > 1 and any(s.points for s in self.streams[1:]):
            self.fault("it ends within a subtest: it was cut off")
            outer.points += [p for stream in self.streams[1:] for p in stream.points]
        elif self.in_yaml:
            self.fault("it ends within a YAML block: it was cut off")
        elif self.results.error is None:
            if outer.points or outer.plan is None:
                self.compare_plan(outer, "it")
            elif outer.plan == 0:
                self.results.says_none = True
                self.fault(f"the report holds no test: {outer.skipped or 'its plan is 1..0'}")
            else:
                self.compare_plan(outer, "it")
        for point in outer.points:
            self.add(point, ())
        for what, (count, line) in self.odd.items():
            self.results.problems.append(Oddity("warning", f"{count} {what}", line))

    def add(self, point: _Point, path: tuple[str, ...]) -> None:
        for inner in point.below:
            self.add(inner, (*path, point.name))
        told_below = any(_failed(p) for p in point.below)
        if point.below and (point.outcome is not Outcome.FAILED or told_below):
            return
        results = self.results
        results.suites.append(" › ".join(path))
        results.classes.append("")
        results.names.append(point.name)
        detail = _detail(point)
        if math.isnan(point.seconds) and detail is not None:
            point.seconds = _seconds(detail.text)
        results.seconds.append(point.seconds)
        results.outcomes.append(point.outcome)
        if detail is not None and point.outcome is not Outcome.PASSED:
            results.details[len(results) - 1] = detail


def _failed(point: _Point) -> bool:
    return point.outcome is Outcome.FAILED or any(_failed(p) for p in point.below)


def _described(rest: str, bad: bool) -> tuple[str, str, float, Outcome]:
    """Name, the directive's reason, seconds and outcome of what stands behind a point's number."""
    seconds = math.nan
    timed = _TIME.search(rest)
    if timed is not None:
        rest = rest[: timed.start()]
        try:
            seconds = float(timed[1]) * (0.001 if timed[2].lower() == "ms" else 1)
        except ValueError:
            seconds = math.nan
    rest, told = untimed(rest.rstrip())
    seconds = told if math.isnan(seconds) else seconds
    outcome, note = Outcome.FAILED if bad else Outcome.PASSED, ""
    directive = _DIRECTIVE.search(rest)
    if directive is not None:
        rest = rest[: directive.start()]
        word = directive[1].lower()
        note = f"{word}: {directive[2].strip()}".rstrip(": ") if word == "todo" else directive[2].strip() or "skip"
        if bad or word == "skip":  # an expected failure, or a point that was not run
            outcome = Outcome.SKIPPED
    return re.sub(r"\\([\\#])", r"\1", rest).strip(), note, seconds, outcome


def _detail(point: _Point) -> Detail | None:
    if not point.words and not point.note and point.outcome is Outcome.PASSED:
        return None
    text = "\n".join(point.words)
    fields = _fields(point.words) if point.yaml else {}
    message = fields.get("message") or fields.get("error") or fields.get("reason") or ""
    if not message and point.outcome is Outcome.SKIPPED:
        message = point.note
    if not message and point.yaml:
        message = point.name
    if not message:
        message = next((w.strip() for w in point.words if w.strip() and w.strip() != "---"), "") or point.note
    place = re.search(r"(?:^|[\s'\"(])((?:[A-Za-z]:)?[^\s'\"():]+\.\w{1,5})(?::(\d{1,8})|\s+line\s+(\d{1,8}))", text)
    return Detail(
        message or point.name,
        text,
        fields.get("name", "") if "Error" in fields.get("name", "") else "",
        file=place[1][:MOST_NAME] if place else "",
        line=int(place[2] or place[3]) if place else 0,
    )


def _fields(words: list[str]) -> dict[str, str]:
    """The scalar keys of a diagnostic YAML block, outermost only, block scalars with their lines."""
    found: dict[str, str] = {}
    key, block = "", False
    for word in words:
        if block and (word.startswith((" ", "\t")) or not word):
            found[key] += word.strip() + "\n"
            continue
        block = False
        match = _KEY.match(word)
        if match is not None:
            key, value = match[1].strip(), (match[2] or "").strip()
            block = value in ("|", "|-", "|+", ">", ">-", ">+")
            found[key] = "" if block else value.strip("'\"")
    return {k: v.strip() for k, v in found.items()}


def _seconds(text: str) -> float:
    timed = re.search(r"^(duration_ms|time|duration)\s*:\s*([\d.]{1,20})\s*$", text, re.MULTILINE)
    try:
        return math.nan if timed is None else float(timed[2]) * (0.001 if timed[1] == "duration_ms" else 1)
    except ValueError:
        return math.nan


def _lines(chunks: Iterable[bytes]) -> Iterator[str]:
    decoder = codecs.getincrementaldecoder("utf-8-sig")("replace")
    rest, size = "", 0
    for chunk in chunks:
        size += len(chunk)
        if size > MOST_BYTES:
            raise Refused(f"the file is larger than {MOST_BYTES:,} bytes")
        pieces = (rest + decoder.decode(chunk)).split("\n")
        rest = pieces.pop()
        if len(rest) > MOST_LINE:
            rest = rest[:MOST_LINE]
        yield from pieces
    rest += decoder.decode(b"", True)
    if rest:
        yield rest
