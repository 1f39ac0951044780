"""Every field of a plan's model is read by something beyond the plan's own reader: no key does nothing in silence."""

from __future__ import annotations

import dataclasses
import re
from pathlib import Path

import pytest

from myriant.core.plan import model

SOURCE = Path(model.__file__).parents[2]
BEYOND = "\n".join(
    p.read_text() for p in SOURCE.rglob("*.py") if "core/plan" not in p.as_posix() and "web" not in p.parts
)
MODELS = [
    c
    for c in vars(model).values()
    if isinstance(c, type) and dataclasses.is_dataclass(c) and c.__module__ == model.__name__
]
THROUGH = {"line", "tag_key"}  # read through a function of the model or the plan's reader


@pytest.mark.parametrize(("owner", "field"), [(c.__name__, f.name) for c in MODELS for f in dataclasses.fields(c)])
def test_a_field_is_read_beyond_the_plans_reader(owner: str, field: str) -> None:
    read = re.search(rf"\.{field}\b", BEYOND) is not None
    assert read or field in THROUGH
