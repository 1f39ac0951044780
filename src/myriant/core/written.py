"""How numbers are written: one rounding everywhere, never up to 100 %, never across a limit."""

from __future__ import annotations

from fractions import Fraction


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
