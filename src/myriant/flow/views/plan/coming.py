"""What is to come: how a project hears of events, and its next ones."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, timedelta

from myriant.core.plan.intent import Event
from myriant.core.plan.model import FILE_NAME, Plan
from myriant.core.plan.read import read_plan
from myriant.core.states import EventKind
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.views.plan.rehearsal import rehearsed
from myriant.repos.git import GitError
from myriant.settings import settings
from myriant.store.projects import branch_at, newest_pulls, schedules_of
from myriant.store.runs import newest_runs_of_pulls
from myriant.store.tables import Project

PAUSED = "The project is paused: a push starts nothing until it is resumed."


@dataclass(frozen=True, slots=True)
class Coming:
    """How a project hears of events, and what comes next."""

    hooked: bool
    next_look: datetime | None
    trouble: str | None
    schedules: list[ComingSchedule]
    pull_requests: list[PullRequestView]
    next_push: str  # what the next push to the main branch runs


@dataclass(frozen=True, slots=True)
class ComingSchedule:
    name: str
    branch: str
    words: str
    at: datetime


@dataclass(frozen=True, slots=True)
class PullRequestView:
    number: int
    source: str
    target: str
    title: str
    author: str
    state: str
    run: int | None


def coming(site: Site, project_name: str) -> Coming:
    with site.store.view() as session:
        project = the_project(session, project_name)
        head = branch_at(session, project.id, project.main_branch)
    plan = _main_plan(site, project, head)
    with site.store.view() as session:
        project = the_project(session, project_name)
        schedules = schedules_of(session, project.id)
        pulls = newest_pulls(session, project.id, 200)
        newest = newest_runs_of_pulls(session, project.id)
        push = PAUSED if plan is not None and project.paused else ""
        if plan is not None and not project.paused:
            push = rehearsed(session, project, plan, Event(EventKind.PUSH, project.main_branch)).sentence
        return Coming(
            project.hooked,
            None
            if project.hooked or project.looked_at is None
            else project.looked_at + timedelta(seconds=settings().poll_seconds),
            project.trouble,
            [ComingSchedule(s.name, s.branch, s.words, s.next_at) for s in schedules],
            [
                PullRequestView(p.number, p.source, p.target, p.title, p.author, p.state, newest.get(p.number))
                for p in pulls
            ],
            push,
        )


def _main_plan(site: Site, project: Project, head: str | None) -> Plan | None:
    """The plan of the main branch; of a project whose repository was never fetched it is fetched for that."""
    mirror = site.mirror(project)
    if head is not None and not mirror.has(head):
        with suppress(GitError):
            mirror.fetch()
    source = mirror.file(head, FILE_NAME) if head is not None and mirror.has(head) else None
    text = source if source is not None else (project.plan or "").encode()
    return read_plan(text).plan if text else None
