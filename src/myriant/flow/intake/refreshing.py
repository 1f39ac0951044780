"""Pull requests whose target has moved: tested anew at once, at a time, or when somebody asks for it."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.plan.schedule import Times, timed
from myriant.flow.state.starting import start_pull_request
from myriant.store.projects import branch_at, open_pulls_into, projects_to_refresh, targets_of_pulls
from myriant.store.runs import newest_run_of_pull
from myriant.store.tables import Project

AT_ONCE = "at once"


def refresh_into(session: Session, project: Project, branch: str) -> list[int]:
    """Test the open pull requests into a branch that were tested with another head of it; the runs that were made.

    One that was never tested, or at another head of its own, has its run coming anyway.
    """
    target = branch_at(session, project.id, branch)
    numbers = []
    for pull in open_pulls_into(session, project.id, branch):
        newest = newest_run_of_pull(session, project.id, pull.number)
        head = branch_at(session, project.id, pull.source)
        if newest is None or newest.commit != head or newest.base == target:
            continue
        begun = start_pull_request(session, project, pull)
        numbers += [begun] if begun is not None else []
    return numbers


def refresh_project(session: Session, project_id: int, now: datetime) -> list[int]:
    """Test anew what is tested anew at a time of its project, if that has come; the numbers of the runs."""
    numbers = []
    for project in (p for p in projects_to_refresh(session, now) if p.id == project_id):
        project.pull_refresh_at = next(times_of_refresh(project.pull_refresh).after(now))
        for branch in targets_of_pulls(session, project.id):
            numbers += refresh_into(session, project, branch)
    return numbers


def times_of_refresh(words: str) -> Times:
    """Raises ScheduleError."""
    return timed(words)
