"""A test plan as plain values."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from typing import Literal

from myriant.core.plan.selectors import Selector

FILE_NAME = "myriant.toml"
MOST_BYTES = 1024 * 1024
MOST_JOBS = 64
MOST_STEPS = 256
MOST_CELLS = 4096
DEFAULT_TIMEOUT = 20 * 60.0


@dataclass(frozen=True, slots=True)
class Collect:
    kind: str = "unit"
    tests: tuple[str, ...] = ()
    coverage: tuple[str, ...] = ()
    may_be_empty: bool = False


@dataclass(frozen=True, slots=True)
class Step:
    name: str
    command: str | tuple[str, ...]
    collect: tuple[Collect, ...] = ()


@dataclass(frozen=True, slots=True)
class Job:
    id: str
    title: str
    vary: dict[str, tuple[str, ...]]
    runtime: tuple[str, ...]
    drop: Selector
    steps: tuple[Step, ...]
    env: dict[str, str] = field(default_factory=dict)
    timeout: float = DEFAULT_TIMEOUT  # seconds for the whole attempt


@dataclass(frozen=True, slots=True)
class Rule:
    """A limit on a measure; `line` is where the plan declares it (0: built in)."""

    name: str
    measure: str
    sign: Literal["at-most", "at-least"]
    limit: Fraction | Literal["baseline"]
    level: Literal["block", "warn"] = "block"
    jobs: tuple[str, ...] = ()
    line: int = 0


@dataclass(frozen=True, slots=True)
class PushEvent:
    branches: tuple[str, ...] = ()  # no pattern: every branch


@dataclass(frozen=True, slots=True)
class Plan:
    push: PushEvent | None
    jobs: tuple[Job, ...]
    rules: tuple[Rule, ...]

    def job(self, job_id: str) -> Job:
        return next(job for job in self.jobs if job.id == job_id)
