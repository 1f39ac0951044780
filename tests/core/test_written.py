"""What strangers wrote goes outward as text, and commands nothing."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from myriant.core.written import plain, plain_within


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("low tide", "low tide"),
        ("a\tb\nc", "a\tb\nc"),
        ("\x1b[31mred\x1b[0m", "␛[31mred␛[0m"),
        ("\x1b]0;title\x07", "␛]0;title␇"),
        ("\x9b2J\x7f\r\0", "<U+009B>2J␡␍␀"),
        ("file\u202egpj.exe\u2066", "file<U+202E>gpj.exe<U+2066>"),
        ("élan — ✓ 潮", "élan — ✓ 潮"),
    ],
)
def test_what_commands_a_terminal_is_shown(text: str, shown: str) -> None:
    assert plain(text) == shown and plain(shown) == shown
    assert plain_within({"a": [text, 1, None]}) == {"a": [shown, 1, None]}


@given(st.text())
def test_nothing_that_commands_is_left(text: str) -> None:
    assert all(c in "\n\t" or c.isprintable() or ord(c) >= 0xA0 for c in plain(text))
