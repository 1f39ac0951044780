"""A reader of SARIF 2.1.0 (OASIS, "Static Analysis Results Interchange Format"; sections are named at each use)."""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol
from urllib.parse import unquote, urlsplit

from myriant.core.coverage.paths import relative
from myriant.core.results.model import Oddity
from myriant.core.written import counted, joined

MOST_BYTES = 64 << 20
MOST_RESULTS = 200_000
MOST_TEXT = 20_000
LEVELS = ("error", "warning", "note", "none")
_PLACEHOLDER = re.compile(r"\{\{|\}\}|\{(\d{1,3})\}")
_NUMBERS = re.compile(r"\d+")


@dataclass(frozen=True, slots=True)
class Place:
    path: str
    line: int  # from 1, 0 for none
    message: str = ""


@dataclass(frozen=True, slots=True)
class Marked:
    """One result of static analysis. `key` is the same for the same result in another run."""

    tool: str
    rule: str
    level: str  # error, warning, note, none
    path: str
    line: int  # from 1, 0 for none
    end_line: int
    message: str
    suppressed: bool
    related: tuple[Place, ...]
    about: str  # what the rule says of itself
    key: str


class Finding(Protocol):
    """What is told of a result: its place, its weight, what it says."""

    @property
    def level(self) -> str: ...
    @property
    def path(self) -> str: ...
    @property
    def line(self) -> int: ...
    @property
    def message(self) -> str: ...
    @property
    def suppressed(self) -> bool: ...


def said_of(results: Iterable[Finding]) -> str:
    """What an analysis names, in a few words: 2 errors and 3 warnings, first gate.lua:4 too long. Empty without any.

    Notes, and what is suppressed in the source, are left out; the first is of the heaviest.
    """
    telling = [r for r in results if r.level in LEVELS[:2] and not r.suppressed]
    if not telling:
        return ""
    counts = [counted(n, level) for level in LEVELS[:2] if (n := sum(r.level == level for r in telling))]
    first = min(telling, key=lambda r: (LEVELS.index(r.level), r.path, r.line))
    where = f"{first.path}:{first.line}" if first.line else first.path
    said = f"{where} {' '.join(first.message.split())[:160]}".strip()
    return joined(counts) + (f", first {said}" if said else "")


@dataclass(slots=True)
class Analysis:
    results: list[Marked] = field(default_factory=list)
    problems: list[Oddity] = field(default_factory=list)

    @property
    def error(self) -> Oddity | None:
        """The first reason not to trust the file, if any."""
        return next((p for p in self.problems if p.level == "error"), None)


def read_sarif(chunks: Iterable[bytes], roots: Sequence[str] = ("/workspace",)) -> Analysis:
    """Read one file. Never raises for what it says: `Analysis.error` tells why it cannot be trusted.

    `roots` are absolute folders where the workspace lay; paths are made relative to them.
    """
    found = Analysis()
    try:
        _Reader(found, roots).read(_parsed(chunks))
    except _Wrong as wrong:
        found.problems.append(Oddity("error", str(wrong), wrong.line))
    return found


class _Wrong(Exception):
    def __init__(self, message: str, line: int = 0) -> None:
        super().__init__(message)
        self.line = line


def _parsed(chunks: Iterable[bytes]) -> Any:
    parts, size = [], 0
    for chunk in chunks:
        size += len(chunk)
        if size > MOST_BYTES:
            raise _Wrong(f"the file is larger than {MOST_BYTES:,} bytes")
        parts.append(chunk)
    data = b"".join(parts)
    if not data.strip():
        raise _Wrong("the file is empty")
    try:
        text = data.decode(json.detect_encoding(data))
        return json.loads(text.removeprefix("\ufeff"))
    except json.JSONDecodeError as error:
        cut = error.pos >= len(text.rstrip()) - 1 or error.msg.startswith("Unterminated")
        raise _Wrong("it is cut off" if cut else f"it is not JSON: {error.msg}", error.lineno) from error
    except RecursionError:
        raise _Wrong("its values are nested too deeply") from None
    except ValueError as error:
        raise _Wrong(f"its text encoding cannot be read: {error}"[:300]) from error


class _Reader:
    def __init__(self, found: Analysis, roots: Sequence[str]) -> None:
        self.found = found
        self.roots = roots
        self.seen: dict[str, int] = {}
        self.odd: dict[str, int] = {}

    def read(self, log: Any) -> None:
        if not isinstance(log, dict) or not isinstance(log.get("runs"), list):
            raise _Wrong('it is not SARIF: it has no list "runs"', 1)
        version = log.get("version")
        if version != "2.1.0":
            self.warn(f'its version is "{_text(version)[:20]}", not "2.1.0"')
        if not log["runs"]:
            raise _Wrong("it holds no run of an analysis")
        for run in log["runs"]:
            self.run(_map(run))
        for what, count in self.odd.items():
            self.warn(f"{count} {what}")

    def warn(self, message: str) -> None:
        self.found.problems.append(Oddity("warning", message, 0))

    def note(self, what: str) -> None:
        self.odd[what] = self.odd.get(what, 0) + 1

    def run(self, run: Mapping[str, Any]) -> None:
        driver = _map(_map(run.get("tool")).get("driver"))
        tool = _text(driver.get("name"))[:200] or "(unnamed)"
        for invocation in _list(run.get("invocations")):
            if _map(invocation).get("executionSuccessful") is False:  # 3.20.14
                why = _text(_map(invocation).get("exitCodeDescription"))[:300]
                self.found.problems.append(
                    Oddity("error", f"{tool} says that it did not run to its end{': ' + why if why else ''}", 0)
                )
        if run.get("results") is None:  # 3.14.23: null or absent when the analysis could not give any
            self.found.problems.append(Oddity("error", f"the run of {tool} has no results: it was not carried out", 0))
            return
        if run.get("externalPropertyFileReferences"):
            self.note("runs that keep a part in other files, which is not read")
        rules = _list(driver.get("rules"))
        by_id = {_text(_map(r).get("id")): _map(r) for r in rules}
        bases = _map(run.get("originalUriBaseIds"))
        for number, result in enumerate(_list(run.get("results"))):
            if len(self.found.results) >= MOST_RESULTS:
                raise _Wrong(f"more than {MOST_RESULTS:,} results in one file")
            if not isinstance(result, dict):
                self.note(f"results of {tool} that are no objects (the first is number {number + 1})")
                continue
            if result.get("baselineState") == "absent":  # 3.27.24: of an earlier run only
                self.note("results that are told as gone, left out")
                continue
            self.found.results.append(self.result(tool, result, rules, by_id, bases))

    def result(
        self, tool: str, result: Mapping[str, Any], rules: list[Any], by_id: Mapping[str, Any], bases: Mapping[str, Any]
    ) -> Marked:
        named, index = _map(result.get("rule")), result.get("ruleIndex")
        rule_id = _text(result.get("ruleId")) or _text(named.get("id"))
        index = named.get("index") if index is None else index
        rule: Mapping[str, Any] = {}
        if isinstance(index, int) and 0 <= index < len(rules):
            rule = _map(rules[index])
        elif rule_id:
            rule = by_id.get(rule_id) or by_id.get(rule_id.rpartition("/")[0]) or {}  # 3.27.5: "CA1000/1"
        rule_id = rule_id or _text(rule.get("id"))
        if not rule_id:
            self.note("results without a rule")
        level = result.get("level")
        if level not in LEVELS:  # 3.27.10
            usual = _map(rule.get("defaultConfiguration")).get("level")
            level = usual if usual in LEVELS else "warning"
            if result.get("kind", "fail") != "fail":
                level = "none"
        places = [self.place(p, bases) for p in _list(result.get("locations"))]
        if not places:
            self.note("results without a place")
        place, end = places[0] if places else (Place("", 0), 0)
        message = self.message(_map(result.get("message")), rule)
        told = _list(result.get("suppressions"))  # 3.27.23
        suppressed = bool(told) and all(_map(s).get("status", "accepted") == "accepted" for s in told)
        related = tuple(self.place(p, bases)[0] for p in _list(result.get("relatedLocations"))[:20])
        about = _text(_map(rule.get("shortDescription")).get("text")) or _text(rule.get("name"))
        key = self.key(tool, rule_id, place.path, message, result)
        return Marked(
            tool, rule_id[:500], level, place.path, place.line, end, message, suppressed, related, about[:1000], key
        )

    def place(self, location: Any, bases: Mapping[str, Any]) -> tuple[Place, int]:
        physical = _map(_map(location).get("physicalLocation"))
        region = _map(physical.get("region"))
        path = self.path(_map(physical.get("artifactLocation")), bases)
        line = _line(region.get("startLine"))
        return Place(path, line, _text(_map(_map(location).get("message")).get("text"))[:1000]), _line(
            region.get("endLine")
        ) or line

    def path(self, artifact: Mapping[str, Any], bases: Mapping[str, Any]) -> str:
        """3.4: a URI, absolute or below one of the named bases."""
        uri, base = _text(artifact.get("uri"))[:4000], _text(artifact.get("uriBaseId"))
        for _ in range(5):
            if not base or urlsplit(uri).scheme:
                break
            known = _map(bases.get(base))
            uri, base = _text(known.get("uri")) + uri, _text(known.get("uriBaseId"))
        try:
            parts = urlsplit(uri)
        except ValueError:
            return uri
        path = unquote(parts.path) if parts.scheme in ("file", "") else uri
        return relative(path, self.roots) if path else ""

    def message(self, message: Mapping[str, Any], rule: Mapping[str, Any]) -> str:
        """3.11: a text, or the id of one of the rule's, with arguments filled in."""
        text = _text(message.get("text")) or _text(message.get("markdown"))
        if not text and message.get("id"):
            text = _text(_map(_map(rule.get("messageStrings")).get(_text(message.get("id")))).get("text"))
        arguments = [_text(a) for a in _list(message.get("arguments"))]

        def filled(m: re.Match[str]) -> str:
            if m[1] is None:
                return m[0][0]
            return arguments[int(m[1])] if int(m[1]) < len(arguments) else m[0]

        return (_PLACEHOLDER.sub(filled, text) if arguments else text)[:MOST_TEXT]

    def key(self, tool: str, rule: str, path: str, message: str, result: Mapping[str, Any]) -> str:
        """By the file's own fingerprints (3.27.16, 3.27.17), else by rule, path and message without numbers."""
        prints = _map(result.get("fingerprints")) or _map(result.get("partialFingerprints"))
        parts = [tool, rule, path, *(f"{k}={_text(v)}" for k, v in sorted(prints.items()))]
        if not prints:
            parts.append(_NUMBERS.sub("#", message))
        key = hashlib.blake2b("\0".join(parts).encode("utf-8", "replace"), digest_size=12).hexdigest()
        self.seen[key] = number = self.seen.get(key, 0) + 1
        return key if number == 1 else f"{key}-{number}"


def _map(value: Any) -> Mapping[str, Any]:
    return value if isinstance(value, dict) else {}


def _list(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _text(value: Any) -> str:
    return value if isinstance(value, str) else ""


def _line(value: Any) -> int:
    return value if isinstance(value, int) and not isinstance(value, bool) and 0 < value < 1 << 31 else 0
