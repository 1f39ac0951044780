"""What decides a job's result: all that it can see of its plan."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from typing import Any

from myriant.core.plan.model import Job

_INCIDENTAL = frozenset({"title", "line", "formerly", "touching", "when", "at_once", "supersede", "gated", "approval"})


def part_of_plan(job: Job) -> str:
    """A job's own part of its plan as text: two jobs with the same part do the same. Titles and places are left out."""
    told = {f.name: _plain(getattr(job, f.name)) for f in fields(job) if f.name not in _INCIDENTAL}
    return json.dumps(told, sort_keys=True)


def _plain(value: Any) -> Any:
    if is_dataclass(value):
        return {f.name: _plain(getattr(value, f.name)) for f in fields(value)}
    if isinstance(value, Mapping):
        return {str(k): _plain(v) for k, v in value.items()}
    if isinstance(value, (tuple, list)):
        return [_plain(v) for v in value]
    return value if value is None or isinstance(value, (str, int, float, bool)) else str(value)
