"""Problems of a plan as a reader gets them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class PlanEdit:
    """Replace what stands between two places (from 1, the end behind it) by a text."""

    line: int
    column: int
    end_line: int
    end_column: int
    text: str


@dataclass(frozen=True, slots=True)
class PlanProblem:
    level: str
    file: str
    line: int
    column: int
    text: str
    message: str
    mend: str
    edits: list[PlanEdit] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class BlindView:
    """Combinations that no chosen cell of a sample has."""

    size: int
    missed: int
    possible: int
    examples: list[dict[str, str]]


def problem_view(problem: dict[str, Any]) -> PlanProblem:
    return PlanProblem(**{**problem, "edits": [PlanEdit(**e) for e in problem.get("edits", ())]})
