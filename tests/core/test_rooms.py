"""The rooms of the house: who may enter where."""

from __future__ import annotations

import ast
from functools import cache
from importlib import import_module
from pathlib import Path

import pytest

import myriant.flow

SOURCES = Path(myriant.flow.__file__).parents[1]
ROOMS = sorted(p.parent.name for p in (SOURCES / "flow").glob("*/__init__.py") if "ENTRANCES" in p.read_text())


@cache
def imported() -> list[tuple[Path, str]]:
    """Each module of a room of flow that some file imports, as `room.module` or deeper."""
    found = []
    for path in SOURCES.rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("myriant.flow."):
                inside = (node.module or "").removeprefix("myriant.flow.")
                found += [(path, inside if "." in inside else f"{inside}.{a.name}") for a in node.names]
    return found


@pytest.mark.parametrize("room", ROOMS)
def test_a_room_is_entered_by_what_it_names_and_by_nothing_else(room: str) -> None:
    there = SOURCES / "flow" / room
    used = {
        name.split(".")[1] for path, name in imported() if name.startswith(f"{room}.") and there not in path.parents
    }
    assert sorted(used) == sorted(import_module(f"myriant.flow.{room}").ENTRANCES)


def test_every_room_that_a_push_passes_names_its_entrances() -> None:
    assert {"intake", "planning", "dispatch", "delivery", "ingest", "conclude", "announce", "actions"} <= set(ROOMS)


def test_no_two_test_modules_have_one_name() -> None:
    """pytest knows modules by their names, and would not collect the second."""
    names = [p.name for p in (SOURCES.parents[1] / "tests").rglob("test_*.py")]
    assert len(names) == len(set(names)), sorted({n for n in names if names.count(n) > 1})
