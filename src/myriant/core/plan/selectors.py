"""Selectors: the one small language that names cells and events.

A table `{ python = "<= 3.9", rounding = "bankers" }` holds when all its conditions do, a list of
tables when one of them does. The same thing is written `python<=3.9,rounding=bankers` in commands,
addresses and explanations; `;` separates alternatives there.
"""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from myriant.core.plan.versions import version_key

_COMPARISON = re.compile(r"(<=|>=|<|>)\s*([^\s<>=]+)")
_WRITTEN = re.compile(r"([a-z][a-z0-9-]*)\s*(!=|<=|>=|<|>|=)\s*(.*)", re.DOTALL)


class SelectorError(ValueError):
    """A text that is no condition; says what was expected."""


@dataclass(frozen=True, slots=True)
class Test:
    """One way for a value to fit: a comparison chain, a glob or a plain text."""

    text: str

    def __post_init__(self) -> None:
        body = self.body
        if not body:
            raise SelectorError("an empty value selects nothing")
        if body[0] == "=":
            raise SelectorError(f'"{self.text}" is no comparison; write for example ">= 3.9", or the value alone')
        if body[0] in "<>" and _COMPARISON.sub("", body).strip():
            raise SelectorError(f'"{self.text}" is no comparison; write for example "<= 3.9" or ">= 3.10 < 3.13"')

    @property
    def negated(self) -> bool:
        return self.text.startswith("!")

    @property
    def body(self) -> str:
        return self.text.removeprefix("!").strip()

    def fits(self, value: str) -> bool:
        return self._plain(value) != self.negated

    def _plain(self, value: str) -> bool:
        body = self.body
        if body[0] in "<>":
            key = version_key(value)
            return all(_holds(key, sign, version_key(limit)) for sign, limit in _COMPARISON.findall(body))
        if any(c in body for c in "*?"):
            return fnmatch.fnmatchcase(value, body)
        return value == body


def _holds(left: object, sign: str, right: object) -> bool:
    match sign:
        case "<=":
            return left <= right  # type: ignore[operator, no-any-return]  # both are version keys
        case ">=":
            return left >= right  # type: ignore[operator, no-any-return]
        case "<":
            return left < right  # type: ignore[operator, no-any-return]
        case _:
            return left > right  # type: ignore[operator, no-any-return]


@dataclass(frozen=True, slots=True)
class Condition:
    key: str
    tests: tuple[Test, ...]

    def holds(self, values: Mapping[str, str]) -> bool:
        value = values.get(self.key)
        if value is None:
            return False
        wanted = [t for t in self.tests if not t.negated]
        return (not wanted or any(t.fits(value) for t in wanted)) and all(
            t.fits(value) for t in self.tests if t.negated
        )

    def __str__(self) -> str:
        if len(self.tests) == 1:
            test = self.tests[0]
            if test.body[0] in "<>" and not test.negated:
                return ",".join(f"{self.key}{sign}{limit}" for sign, limit in _COMPARISON.findall(test.body))
            return f"{self.key}{'!=' if test.negated else '='}{test.body}"
        return f"{self.key}=" + "|".join(t.text for t in self.tests)


@dataclass(frozen=True, slots=True)
class Selector:
    """Alternatives of conditions; without any alternative it never holds."""

    alternatives: tuple[tuple[Condition, ...], ...]

    def holds(self, values: Mapping[str, str]) -> bool:
        return any(all(c.holds(values) for c in conditions) for conditions in self.alternatives)

    def keys(self) -> set[str]:
        return {c.key for conditions in self.alternatives for c in conditions}

    def __str__(self) -> str:
        return ";".join(",".join(map(str, conditions)) for conditions in self.alternatives)


def condition(key: str, value: str | Sequence[str]) -> Condition:
    """A condition from a plan's value: a text or a list of texts. Raises SelectorError."""
    texts = [value] if isinstance(value, str) else list(value)
    if not texts:
        raise SelectorError("an empty list selects nothing")
    return Condition(key, tuple(Test(t) for t in texts))


def parse_selector(text: str) -> Selector:
    """Read the written form, `python<=3.9,rounding=bankers;event=push`. Raises SelectorError."""
    alternatives: list[tuple[Condition, ...]] = []
    for part in filter(None, (p.strip() for p in text.split(";"))):
        by_key: dict[str, list[str]] = {}
        for piece in part.split(","):
            match = _WRITTEN.fullmatch(piece.strip())
            if match is None:
                raise SelectorError(f'"{piece.strip()}" is no condition; write for example python<=3.9 or lua=5.1')
            key, sign, value = match.groups()
            values = by_key.setdefault(key, [])
            if sign in ("=", "!="):
                values += [("!" if sign == "!=" else "") + v for v in value.split("|")]
            elif values and values[-1][:1] in "<>":
                values[-1] += f" {sign} {value}"
            else:
                values.append(f"{sign} {value}")
        alternatives.append(tuple(condition(key, values) for key, values in by_key.items()))
    if not alternatives:
        raise SelectorError("an empty selector selects nothing")
    return Selector(tuple(alternatives))


def written(values: Mapping[str, str]) -> str:
    """A cell's values as a selector that names just this cell: `python=3.12,rounding=nearest`."""
    return ",".join(f"{key}={value}" for key, value in values.items())
