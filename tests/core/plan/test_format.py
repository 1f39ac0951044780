"""Formatting changes no value, and nothing the second time."""

from __future__ import annotations

import time
import tomllib
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from myriant.core.plan.format import format_plan

FULL = (Path(__file__).parent / "full.toml").read_text()


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("a=1\nlonger  =  2\n\n\n\n[t]\nb=3", "a      = 1\nlonger = 2\n\n[t]\nb = 3\n"),
        ("a = 1\n# about t\n[t]\n", "a = 1\n# about t\n[t]\n"),
        ("a = [\n  1,\n\n\n  2,\n]\nb=1\n", "a = [\n  1,\n\n\n  2,\n]\nb = 1\n"),
        ('a = """\n x=1\n[no]\n"""\n', 'a = """\n x=1\n[no]\n"""\n'),
        ("not toml", "not toml"),
        ("", ""),
        ("  a.b=1 # why\r\n", "a.b = 1 # why\n"),
        (FULL, FULL),
    ],
)
def test_it_is_written_evenly(text: str, expected: str) -> None:
    assert format_plan(text) == expected


@given(
    st.lists(st.sampled_from([*FULL.split("\n"), "", "x = '''", "y = 1 # =", "  ", "[[q]]", "k='a=b'"]), max_size=20)
)
@settings(max_examples=150, deadline=None)
def test_no_value_changes_and_the_second_time_changes_nothing(lines: list[str]) -> None:
    text = "\n".join(lines)
    done = format_plan(text)
    assert format_plan(done) == done
    try:
        before = tomllib.loads(text)
    except tomllib.TOMLDecodeError:
        assert done == text
    else:
        assert tomllib.loads(done) == before


def test_a_value_over_very_many_lines_is_written_in_no_time() -> None:
    text = "version = 1\nx = [\n" + "  1,\n" * 30_000 + "]\nyy=2\n"
    begun = time.monotonic()
    assert format_plan(text).endswith("]\nyy = 2\n")
    assert time.monotonic() - begun < 20
