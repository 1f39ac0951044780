"""The kind of a failure and the next step in plain words, by rules that are data (kinds.toml) and can be added to."""

from __future__ import annotations

import functools
import re
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from importlib import resources
from typing import Any

from myriant.core.plan.document import loads

PARTS = (
    "plan",
    "environment",
    "dependency",
    "companion",
    "compile",
    "style",
    "test",
    "gate",
    "publish",
    "infrastructure",
)
MOST_LOOKED_AT = 200_000  # characters of one text, from its end
_MOST_PATTERN = 4000
_GROUP = re.compile(r"\{(\w+)(?:\|([^{}]*))?\}")
_MAYBE = re.compile(r"\[([^\[\]]*\{(\w+)[^\[\]]*)\]")


class KindError(ValueError):
    """A rule that cannot be used; says which, why and the mend."""


@dataclass(frozen=True, slots=True)
class Kind:
    """A rule: see kinds.toml for its fields."""

    name: str
    part: str
    pattern: re.Pattern[str] | None
    exits: tuple[int, ...]
    say: str


@dataclass(frozen=True, slots=True)
class Told:
    """What a failure is and what to do next; `line` is the text that said so."""

    name: str
    part: str
    say: str
    line: str


def kinds_from(text: str) -> tuple[Kind, ...]:
    """Rules from TOML. Raises KindError."""
    try:
        rows = loads(text).get("kind", [])
    except tomllib.TOMLDecodeError as error:
        raise KindError(f"it is not TOML: {error}") from error
    if not isinstance(rows, list) or not all(isinstance(r, dict) for r in rows):
        raise KindError("rules are written as tables [[kind]]")
    return tuple(_kind(number, row) for number, row in enumerate(rows, 1))


def _kind(number: int, row: dict[str, Any]) -> Kind:
    name, say = row.get("name"), row.get("say")
    where = f'rule {number} ("{name}")' if isinstance(name, str) else f"rule {number}"
    if not isinstance(name, str) or not name or not isinstance(say, str):
        raise KindError(f'{where} needs a name and what to say, such as name = "gauge offline" and say = "…"')
    part, pattern, exits = row.get("part", "test"), row.get("pattern"), row.get("exit", [])
    if part not in PARTS:
        raise KindError(f"{where}: part is one of {', '.join(PARTS)}")
    if not isinstance(exits, list) or not all(isinstance(e, int) and 0 <= e < 256 for e in exits):
        raise KindError(f"{where}: exit is a list of exit statuses from 0 to 255")
    if pattern is None and not exits:
        raise KindError(f"{where} needs a pattern or exit statuses")
    if pattern is not None and (not isinstance(pattern, str) or len(pattern) > _MOST_PATTERN):
        raise KindError(f"{where}: pattern is a text of at most {_MOST_PATTERN} characters")
    try:
        compiled = re.compile(pattern, re.MULTILINE) if pattern is not None else None
    except re.error as error:
        raise KindError(f"{where}: its pattern is no regular expression: {error}") from error
    if compiled is not None and compiled.search(""):
        raise KindError(f"{where}: its pattern fits every text; write what is particular to it")
    return Kind(name[:200], part, compiled, tuple(exits), say[:2000])


@functools.cache
def usual_kinds() -> tuple[Kind, ...]:
    """The rules that come with the product."""
    return kinds_from((resources.files(__package__) / "kinds.toml").read_text("utf-8"))


def kind_of(texts: Iterable[str], exit_status: int | None = None, kinds: Sequence[Kind] | None = None) -> Told | None:
    """The first rule that fits one of the texts (message, stack, end of the log, in that order), else an exit
    status.
    """
    rules = usual_kinds() if kinds is None else kinds
    for text in texts:
        text = without_source(text[-MOST_LOOKED_AT:])
        for kind in rules:
            if kind.pattern is not None and (found := kind.pattern.search(text)) is not None:
                return Told(kind.name, kind.part, _filled(kind.say, found.groupdict()), _line(text, found))
    if exit_status:
        for kind in rules:
            if exit_status in kind.exits:
                return Told(kind.name, kind.part, _filled(kind.say, {}), f"exit status {exit_status}")
    return None


_FILE = re.compile(r'\s*File "[^"]*", line \d+')
_NUMBERED = re.compile(r"\s*>?\s*\d+ *\|")  # a line of source as tools that quote it number them


def without_source(text: str) -> str:
    """A stack or log without the lines of source that it quotes: what code mentions did not happen."""
    kept: list[str] = []
    file = False  # the last line named a place, whose source follows
    for line in text.splitlines():
        if line.startswith("E ") or line == "E":
            while kept and (kept[-1].startswith(("    ", ">")) or not kept[-1].strip()):
                kept.pop()
        if (file and line.startswith("    ")) or _NUMBERED.match(line):
            continue
        file = bool(_FILE.match(line))
        kept.append(line)
    return "\n".join(kept)


def _filled(say: str, groups: Mapping[str, str | None]) -> str:
    """The sentence with the groups that matched; the first name in it stands for whichever did.

    `{name|words}` is the words where it is not known; what stands in brackets around an unknown name is left out, and
    so is an unknown name alone.
    """
    some = next((v for v in groups.values() if v), None)

    def known(name: str) -> str:
        return (groups.get(name) or some or "").strip()[:200]

    say = _MAYBE.sub(lambda m: m[1] if known(m[2]) else "", say)
    say = _GROUP.sub(lambda m: known(m[1]) or m[2] or "{}", say)
    return re.sub(r"\s*\(\{\}\)|\s*\{\}", "", say).strip().replace(" :", ":").replace(" ,", ",")


def _line(text: str, found: re.Match[str]) -> str:
    begin = text.rfind("\n", 0, found.start() + 1) + 1
    end = text.find("\n", found.start() + 1)
    return text[begin : end if end >= 0 else len(text)].strip()[:300]


_ERROR = re.compile(
    r"\b(?:error|fatal|panic|exception|cannot|can't|could not|not found|refused|denied|unable to|no such|invalid)\b"
    r"|\w(?:Error|Exception|Failure)\b|^E\s|\bFAILED\b",
    re.IGNORECASE,
)
_NONE = re.compile(
    r"\b(?:0|no|without) (?:\w+ )?errors?\b|^make(?:\[\d+\])?: \*\*\*|^\s*at \S+ ?\(|\berrors?\b *[:=] *0\b",
    re.IGNORECASE,
)
_COLOURS = re.compile(r"\x1b\[[0-9;:]*[A-Za-z]")


def error_line(log: str) -> str:
    """The line of a failed step's log that says most plainly what went wrong: the last that speaks of an error (the
    first of those that come one after another), else the last that says anything. Empty for an empty log.
    """
    lines = [_COLOURS.sub("", line).strip() for line in log[-MOST_LOOKED_AT:].splitlines()]
    lines = [line for line in lines if line]
    told = [i for i, line in enumerate(lines) if _ERROR.search(line) and not _NONE.search(line)]
    if not told:
        return lines[-1][:300] if lines else ""
    at = told[-1]
    while at - 1 in told and not re.match(r"\w+(?:\.\w+)*(?:Error|Exception): ", lines[at]):
        at -= 1
    return lines[at][:300]
