"""A run in one line, and what addresses name: projects and runs."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.flow.errors import NotFound
from myriant.store.runs import project_named, run_numbered
from myriant.store.tables import Project, Run


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


def the_project(session: Session, name: str) -> Project:
    found = project_named(session, name)
    if found is None:
        raise NotFound(f"there is no project {name!r}", "the list of projects is at /")
    return found


def the_run(session: Session, found: Project, number: int) -> Run:
    row = run_numbered(session, found.id, number)
    if row is None:
        raise NotFound(f"{found.name} has no run #{number}")
    return row
