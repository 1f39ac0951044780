"""Where a plan sets each variable of a job, the weakest first."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from myriant.core.plan.document import loads
from myriant.core.plan.model import FILE_NAME, Job
from myriant.core.plan.places import Path, Places, locate
from myriant.core.written import step_called


@dataclass(frozen=True, slots=True)
class Origin:
    """`place` in words with the line; `step` is its position in the job, None for the whole job."""

    place: str
    value: str
    step: int | None = None


def origins(text: str, job: Job) -> dict[str, list[Origin]]:
    """By variable, every place of the plan that sets it for a job or one of its steps."""
    found: dict[str, list[Origin]] = {}
    for name, origin in _whole_job(text, job.id):
        found.setdefault(name, []).append(origin)
    for position, step in enumerate(job.steps):
        for name, value in step.env.items():
            found.setdefault(name, []).append(Origin(f"{step_called(step.name)}, {FILE_NAME}", value, position))
    return found


@lru_cache(maxsize=256)
def _whole_job(text: str, job_id: str) -> tuple[tuple[str, Origin], ...]:
    try:
        data: dict[str, Any] = loads(text)
    except tomllib.TOMLDecodeError:
        return ()
    places = locate(text.encode())
    found: list[tuple[str, Origin]] = []

    def add(table: Any, path: Path, what: str) -> None:
        for name, value in table.items() if isinstance(table, dict) else ():
            if isinstance(value, str):
                found.append((name, Origin(_placed(places, (*path, name), what), value)))

    own = data.get("jobs", {}).get(job_id, {})
    add(data.get("defaults", {}).get("env"), ("defaults", "env"), "the plan's defaults")
    add(own.get("env"), ("jobs", job_id, "env"), f"job {job_id}")
    return tuple(found)


def _placed(places: Places, path: Path, what: str) -> str:
    return f"{what}, {FILE_NAME}:{places.of_key(path).line}"
