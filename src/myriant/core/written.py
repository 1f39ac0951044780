"""How numbers are written: one rounding everywhere, never up to 100 %, never across a limit."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from fractions import Fraction
from typing import Any


def percent(value: Fraction, limit: Fraction | None = None) -> str:
    """A fraction as percent with one decimal, never rounded up to 100, never onto or across a limit.

    >>> percent(Fraction(75, 76)), percent(Fraction(9999, 10000)), percent(Fraction(79996, 100000), Fraction(8, 10))
    ('98.7 %', '99.9 %', '79.996 %')
    """
    for decimals in range(1, 7):
        scale = 100 * 10**decimals
        shown = Fraction((value * scale * 2 + 1) // 2, scale)  # half up
        if shown == 1 and value < 1:
            shown = Fraction(value * scale // 1, scale)
        if limit is None or value == limit or (shown - limit) * (value - limit) > 0:
            break
    return f"{float(shown * 100):.{decimals}f} %"


def ranges(numbers: Iterable[int], most: int = 3) -> str:
    """Numbers in few characters, so many stretches of them at most.

    >>> ranges([12, 13, 14, 20]), ranges([1, 3, 5, 7])
    ('12-14, 20', '1, 3, 5 …')
    """
    parts: list[list[int]] = []
    for n in sorted(numbers):
        if parts and parts[-1][1] == n - 1:
            parts[-1][1] = n
        else:
            parts.append([n, n])
    told = [str(a) if a == b else f"{a}-{b}" for a, b in parts[:most]]
    return ", ".join(told) + (" …" if len(parts) > most else "")


def points(value: Fraction, limit: Fraction | None = None) -> str:
    """A change of a share in points of percent, never rounded onto or across a limit.

    >>> points(Fraction(-1, 250)), points(Fraction(0)), points(Fraction(-549, 100000), Fraction(-1, 200))
    ('−0.4 points', '±0.0 points', '−0.549 points')
    """
    for decimals in range(1, 7):
        shown = round(value, 2 + decimals)
        if limit is None or value == limit or (shown - limit) * (value - limit) > 0:
            break
    sign = "+" if value > 0 else "−" if value < 0 else "±"
    return f"{sign}{float(abs(shown) * 100):.{decimals}f} points"


def weight(size: int) -> str:
    """Bytes as people say them, in powers of a thousand.

    >>> weight(873), weight(12_400), weight(5_230_000_000), weight(-2_000_000)
    ('873 B', '12.4 kB', '5.2 GB', '−2.0 MB')
    """
    sign, value = ("−", -size) if size < 0 else ("", size)
    if value < 1000:
        return f"{sign}{value} B"
    power = min(int(math.log10(value)) // 3, 4)
    return f"{sign}{value / 1000**power:.1f} {('B', 'kB', 'MB', 'GB', 'TB')[power]}"


def duration(seconds: float) -> str:
    """Seconds as people say them: 4 ms, 0.4 s, 12 s, 1 min 48 s, 2 h 5 min."""
    if seconds < 0.1:
        return f"{seconds * 1000:.0f} ms"
    if seconds < 10:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s" if whole % 60 else f"{whole // 60} min"
    return f"{whole // 3600} h {whole % 3600 // 60} min"


def counted(number: int, one: str, many: str | None = None) -> str:
    """A number with its noun: 1 test, 3 tests, 1,204 tests."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def joined(words: Sequence[str]) -> str:
    """Words in a row: "7", "7 and 8", "7, 8 and 9"."""
    return " and ".join([*([", ".join(words[:-1])] if len(words) > 1 else []), *words[-1:]])


def day(at: datetime) -> str:
    """A day in UTC, for people: 5 December 2026."""
    utc = at.astimezone(UTC)
    return f"{utc.day} {utc:%B %Y}"


def bytes_text(size: int) -> str:
    """Bytes as people say them: 512 bytes, 1.5 MiB, 20 GiB."""
    if size < 1024:
        return f"{size} bytes"
    value = float(size)
    for unit in ("KiB", "MiB", "GiB", "TiB"):
        value /= 1024
        if value < 1023.95 or unit == "TiB":
            break
    return f"{value:.1f}".removesuffix(".0") + f" {unit}"


def plain(text: str) -> str:
    """A stranger's text for a terminal, a note or a mail: what would command or deceive is shown, not carried out.

    Control characters become their pictures (U+2400); C1 ones, and those that turn the direction of what follows, their
    numbers. Line ends and tabs stay.

    >>> plain("tide\x1b[2J\u202eh\x9b")
    'tide␛[2J<U+202E>h<U+009B>'
    """
    return _COMMANDS.sub(lambda found: _shown(ord(found[0])), text)


def plain_within(value: Any) -> Any:
    """The same for every text of a value as JSON has it."""
    match value:
        case str():
            return plain(value)
        case list():
            return [plain_within(v) for v in value]
        case dict():
            return {k: plain_within(v) for k, v in value.items()}
    return value


_COMMANDS = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")


def _shown(code: int) -> str:
    if code < 0x20:
        return chr(0x2400 + code)
    return "␡" if code == 0x7F else f"<U+{code:04X}>"


def step_called(name: str) -> str:
    """A step in a sentence: one without a name of its own is called "step 2" already."""
    return name if name.startswith("step ") else f"step {name}"
