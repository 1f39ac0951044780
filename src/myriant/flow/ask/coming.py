"""What is to come: how a project hears of events, and its next ones."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.plan.intent import Event
from myriant.core.plan.model import FILE_NAME, Plan
from myriant.core.plan.read import read_plan
from myriant.flow.ask.repositories import POLL_SECONDS
from myriant.flow.ask.workbench.rehearsal import rehearsed
from myriant.flow.intake.starting import BRANCH
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.tables import Project, PullRequest, Ref, Run, Schedule


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
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        schedules = session.scalars(
            select(Schedule).where(Schedule.project_id == project.id).order_by(Schedule.next_at)
        )
        pulls = session.scalars(
            select(PullRequest)
            .where(PullRequest.project_id == project.id)
            .order_by(PullRequest.number.desc())
            .limit(200)
        ).all()
        newest: dict[int | None, int] = {
            row[0]: row[1]
            for row in session.execute(
                select(Run.pull_request, func.max(Run.number))
                .where(Run.project_id == project.id, Run.pull_request.is_not(None))
                .group_by(Run.pull_request)
            )
        }
        plan = _main_plan(site, session, project)
        push = ""
        if plan is not None:
            push = rehearsed(session, project, plan, Event("push", project.main_branch)).sentence
        return Coming(
            project.hooked,
            None
            if project.hooked or project.looked_at is None
            else project.looked_at + timedelta(seconds=POLL_SECONDS),
            project.trouble,
            [ComingSchedule(s.name, s.branch, s.words, s.next_at) for s in schedules],
            [
                PullRequestView(p.number, p.source, p.target, p.title, p.author, p.state, newest.get(p.number))
                for p in pulls
            ],
            push,
        )


def _main_plan(site: Site, session: Session, project: Project) -> Plan | None:
    ref = session.get(Ref, (project.id, BRANCH + project.main_branch))
    mirror = site.mirror(project)
    source = mirror.file(ref.commit, FILE_NAME) if ref is not None and mirror.has(ref.commit) else None
    text = source if source is not None else (project.plan or "").encode()
    return read_plan(text).plan if text else None
