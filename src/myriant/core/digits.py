"""Numbers that come from outside as text."""

from __future__ import annotations


def number_of(text: str, most: int = 9) -> int | None:
    """The number that up to `most` of the digits 0 to 9 write; None for anything else.

    `str.isdigit` is no guard before `int`: it holds for "²", at which `int` fails.

    >>> number_of("007"), number_of("²"), number_of("٣"), number_of(""), number_of("1" * 10), number_of(" 1")
    (7, None, None, None, None, None)
    """
    return int(text) if text.isascii() and text.isdigit() and len(text) <= most else None
