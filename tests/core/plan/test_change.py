"""Forms and text are two views of one document: a change by meaning changes that meaning and nothing else."""

from __future__ import annotations

import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from myriant.core.plan.change import PIECES, insert_piece, set_value, toml_value
from myriant.core.plan.read import read_plan

FULL = (Path(__file__).parent / "full.toml").read_text()
SMALL = 'version = 1  # one\n\n[jobs.unit]\ntitle = "Unit"  # its title\nvary = { lua = ["5.4"], size = ["s"] }\n\n[[jobs.unit.steps]]\nname = "test"\ncommand = "make $MYRIANT_CELL_SIZE"\n'


def at(document: Any, path: tuple[str | int, ...]) -> Any:
    for key in path:
        document = document[key]
    return document


@pytest.mark.parametrize(
    ("path", "value", "line"),
    [
        (("jobs", "unit", "title"), "Einheit “1”", 'title = "Einheit “1”"  # its title'),
        (("jobs", "unit", "timeout"), "5 min", 'timeout = "5 min"'),
        (("jobs", "unit", "vary", "lua"), ["5.1", "5.4"], 'vary = { lua = ["5.1", "5.4"], size = ["s"] }'),
        (("jobs", "unit", "vary", "zone"), ["n"], 'vary = { lua = ["5.4"], size = ["s"], zone = ["n"] }'),
        (("jobs", "unit", "steps", 0, "collect"), {"tests": ["a.xml"]}, 'collect = { tests = ["a.xml"] }'),
        (("events", "push", "branches"), ["main"], 'events = { push = { branches = ["main"] } }'),
        (("jobs", "unit", "stop-early"), True, "stop-early = true"),
        (("jobs", "unit", "env", "A b"), "x\ty", 'env   = { "A b" = "x\\ty" }'),
    ],
)
def test_a_value_is_set_where_it_belongs(path: tuple[str | int, ...], value: Any, line: str) -> None:
    done = set_value(SMALL, path, value)
    assert at(tomllib.loads(done), path) == value
    assert line in done.split("\n") and "# one" in done and "# its title" in done
    assert set_value(done, path, value) == done


@pytest.mark.parametrize(
    "path",
    [
        ("jobs", "unit", "title"),
        ("jobs", "unit", "vary", "lua"),
        ("jobs", "unit", "vary", "size"),
        ("jobs", "unit", "steps", 0),
        ("jobs", "unit"),
    ],
)
def test_a_value_is_taken_out(path: tuple[str | int, ...]) -> None:
    found = tomllib.loads(set_value(SMALL, path, None))
    with pytest.raises((KeyError, IndexError)):
        at(found, path)
    assert set_value(SMALL, ("jobs", "other"), None) == SMALL


@pytest.mark.parametrize("piece", PIECES, ids=[p.name for p in PIECES])
@pytest.mark.parametrize("text", [SMALL, "version = 1\n"], ids=["small", "empty"])
def test_every_piece_lands_in_its_table_wherever_the_cursor_is(piece: Any, text: str) -> None:
    for line in (1, 4, 9, 50):
        done, stands = insert_piece(text, piece.name, line)
        before, after = tomllib.loads(text), tomllib.loads(done)
        if done == text:
            assert text != SMALL or piece.text.partition(" = ")[0] in SMALL
            continue
        assert 1 <= stands <= len(done.split("\n")) and done.split("\n")[stands - 1].strip()
        unknown = [
            p.message for p in read_plan(done.encode()).errors if "unknown key" in p.message or "TOML" in p.message
        ]
        assert unknown == []
        assert len(str(after)) > len(str(before))


values = st.recursive(
    st.one_of(
        st.booleans(), st.integers(-9, 9), st.text(st.characters(codec="utf-8", exclude_categories=["Cc"]), max_size=8)
    ),
    lambda inner: st.one_of(
        st.lists(inner, max_size=3), st.dictionaries(st.text("abc d", min_size=1, max_size=3), inner, max_size=3)
    ),
    max_leaves=6,
)


@given(
    values,
    st.sampled_from(
        [("title",), ("env", "X"), ("new",), ("steps", 1, "command"), ("steps", 1, "folder"), ("vary", "python")]
    ),
)
@settings(max_examples=120, deadline=None)
def test_any_value_is_read_back_as_it_was_set(value: Any, path: tuple[str | int, ...]) -> None:
    done = set_value(FULL, ("jobs", "unit", *path), value)
    assert at(tomllib.loads(done), ("jobs", "unit", *path)) == value
    assert tomllib.loads(f"x = {toml_value(value)}")["x"] == value
