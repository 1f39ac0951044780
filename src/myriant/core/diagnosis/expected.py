"""Expected against actual, where a failure's message has both: the styles of common assertion libraries."""

from __future__ import annotations

import re
import textwrap
from dataclasses import dataclass

_MOST = 20_000
_COLOUR = re.compile(r"\x1b\[[0-9;:]*[A-Za-z]")
_E, _A = r"(?P<expected>", r"(?P<actual>"


def _lines(first: str, second: str, *, expected_first: bool) -> str:
    """Two lines, each its label and its value; a value may go on in deeper or unlabelled lines."""
    one, two = (_E, _A) if expected_first else (_A, _E)
    return rf"^[ \t#>|]*(?:{first})[ \t]*{one}.*?)[ \t]*\n(?:[ \t#|]*\n)?[ \t#>|]*(?:{second})[ \t]*{two}[^\n]*(?:\n(?=[ \t]+\S|[\]}})])(?![ \t]*(?:at |[A-Za-z_ ]+:(?:\s|$)|- \S))[^\n]*)*)"


# Tried in this order: those that cannot be mistaken come first.
_SHAPES = tuple(
    re.compile(pattern, re.MULTILINE | re.DOTALL)
    for pattern in (
        rf"expected:?\s*<\[?{_E}.*?)\]?>\s+but was:?\s*<\[?{_A}.*?)\]?>(?=\s|$)",  # <a> but was: <b>
        rf"expected\s+\[{_E}.*?)\]\s+but (?:found|was)\s+\[{_A}.*?)\](?=\s|$)",
        rf"Failed asserting that {_A}.+?) (?:is identical to|matches expected|equals|is equal to) {_E}.+?)\.?(?=\n|$)",
        r"^\s*- Expected[^\n]*\n\s*\+ Received[^\n]*\n\s*\n(?P<both>(?:[ \t]*[-+ ] ?[^\n]*\n?)+?)(?=[ \t]*\n|[ \t]+at |\Z)",
        r"^\s*\+ actual[ ,]+- expected[^\n]*\n\s*\n?(?P<both>(?:[ \t]*[-+ ] ?[^\n]*\n?)+?)(?=[ \t]*\n|[ \t]+at |\Z)",
        r"^--- Expected\n\+\+\+ Actual\n@@ @@\n(?P<both>(?:[ +-].*\n?)+)",
        rf"Expected equality of these values:\n\s+{_E}[^\n]+)(?:\n\s+Which is: [^\n]+)?\n\s+{_A}[^\n]+)",
        rf"assertion `?left == right`? failed.*?\n\s*left: {_A}[^\n]+)\n\s*right: {_E}[^\n]+)",
        rf"left: `{_A}.*?)`,\s+right: `{_E}.*?)`",
        rf"\{{expected,{_E}.*?)\}},\s*\{{value,{_A}.*?)\}}\]",
        _lines(r"Expecting actual:?\n", r"to be equal to:?\n", expected_first=False),
        _lines(
            r"expected(?:[ \t]*\([^)\n]*\))?[ \t]*[:=]",
            r"(?:actual|got|received|but was|found|was)(?:[ \t]*\([^)\n]*\))?[ \t]*[:=]",
            expected_first=True,
        ),
        _lines(
            r"(?:actual|got|received|found)(?:[ \t]*\([^)\n]*\))?[ \t]*[:=]",
            r"(?:expected|wanted?)(?:[ \t]*\([^)\n]*\))?[ \t]*[:=]",
            expected_first=False,
        ),
        _lines(
            r"Expected(?:[ \t]*\([^)\n]*\))?[ \t]*:",
            r"(?:Received|Actual|But was)(?:[ \t]*\([^)\n]*\))?[ \t]*:",
            expected_first=True,
        ),
        _lines(r"Actual(?:[ \t]*\([^)\n]*\))?[ \t]*:", r"Expected(?:[ \t]*\([^)\n]*\))?[ \t]*:", expected_first=False),
        _lines("`actual`:", "`expected`:", expected_first=False),
        rf"check {_A}[^\n]+?) == {_E}[^\n]+?) has failed \[(?P<shown>[^\n]*)\]",
        rf"Assertion '[^'\n]*==[^'\n]*' failed: \S+ == {_A}[^\n,]+), \S+ == {_E}[^\n]+)",
        rf"(?<![A-Za-z])[Ee]xpected:?\s+{_E}[^\n]+?),\s+(?:but )?(?:got|actual|was|found|received):?\s+{_A}[^\n]+)",
        rf"(?<![A-Za-z])[Ee]xpected:?\s+{_E}[^\n]+?)\s+(?:but )?(?:got|was|found|received):?\s+{_A}[^\n]+)",
        rf"got:?\s+{_A}[^\n]+?),?\s+(?:want|wanted|expected):?\s+{_E}[^\n]+)",
        rf"expected {_A}.+?) to (?:strictly |deeply |loosely )?(?:equal|be|eq|eql) {_E}.+?)(?: //.*)?$",
        rf"(?:^|\n|: )(?:E +)?(?:AssertionError: )?assert {_A}[^\n]+?) == {_E}[^\n]+)$",
        rf"equal:\s*{_A}[^\n]+?) !== {_E}[^\n]+)",
        rf"^(?:\s*(?:REQUIRE|CHECK)\( )?(?:AssertionError: )?{_A}[^\n]+?) (?:!=|!==) {_E}[^\n]+?)(?: : .*)?(?: \))?$",
        rf"^{_A}[^\n=]+?) not equal to {_E}[^\n]+?)\.?$",
    )
)


@dataclass(frozen=True, slots=True)
class Pair:
    expected: str
    actual: str


def expected_and_actual(message: str, detail: str) -> Pair | None:
    """The pair that an assertion states; None when there is none."""
    for text in (message, detail):
        plain = _COLOUR.sub("", text[:_MOST])
        for shape in _SHAPES:
            found = shape.search(plain)
            if found is None:
                continue
            pair = _difference(found["both"]) if "both" in shape.groupindex else _pair(found)
            if pair is not None:
                return pair
    return None


def _pair(found: re.Match[str]) -> Pair | None:
    expected, actual = found["expected"].strip(), found["actual"].strip()
    if "," in (expected[-1:], actual[-1:]) and "\n" in found[0]:
        expected, actual = expected.removesuffix(","), actual.removesuffix(",")  # fields of an object, a line each
    if "\n\n" in actual and "\n\n" not in expected:
        actual = actual.split("\n\n")[0].strip()
    if not expected or not actual or expected == actual or expected.startswith(("strictly", "deeply", "values to")):
        return None
    return Pair(expected, actual)


def _difference(both: str) -> Pair | None:
    """Both sides of a difference: lines of the expected begin with "-", of the actual with "+"."""
    lines = textwrap.dedent(both).splitlines()
    first = "\n".join(line[1:].removeprefix(" ") for line in lines if line[:1] != "+")
    second = "\n".join(line[1:].removeprefix(" ") for line in lines if line[:1] != "-")
    return Pair(first.strip(), second.strip()) if first != second else None
