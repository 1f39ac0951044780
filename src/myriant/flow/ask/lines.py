"""A run in one line."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from myriant.store.tables import Run


@dataclass(frozen=True, slots=True)
class RunLine:
    """A run in one line."""

    number: int
    commit: str
    title: str
    author: str
    branch: str
    event: str
    state: str
    verdict: str
    sentence: str
    at: datetime
    started_at: datetime | None
    ended_at: datetime | None


def run_line(row: Run) -> RunLine:
    return RunLine(
        row.number, row.commit, row.title, row.author, row.branch, row.event, row.state, row.verdict,
        f"{row.sentence or row.reason} {row.gated_said}".strip(), row.created_at, row.started_at, row.ended_at,
    )  # fmt: skip
