"""Feeds: what was said of runs, for programs that read along, and for readers of news."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from itertools import islice
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.gate.contexts import parse_context, push_to
from myriant.core.telling.feeds import Coming, Told, atom, calendar, cloud_event
from myriant.flow.errors import NotFound
from myriant.flow.naming import the_project
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.store.outcomes import newest_outcomes, outcomes_after
from myriant.store.projects import project_with_badge_key, schedules_of
from myriant.store.runs import newest_planned_push
from myriant.store.tables import Outcome, Project, Run

MOST_ENTRIES = 50
MOST_TIMES = 30  # of each schedule


@dataclass(frozen=True, slots=True)
class Outcomes:
    """What was said, the oldest first, as CloudEvents; `next` is the cursor that goes on from here."""

    events: list[dict[str, Any]]
    next: int


def outcomes(site: Site, name: str, after: int, most: int) -> Outcomes:
    """What was said of a project's runs after a cursor. Asked again with it, the same is said. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        rows = outcomes_after(session, project.id, after, most)
        source = f"{site.address}/p/{name}"
        events = [cloud_event(_told(site, project, o, r), source) for o, r in rows]
        return Outcomes(events, rows[-1][0].id if rows else after)


def atom_of(site: Site, key: str, branch: str, *, every: bool) -> str:
    """The newest outcomes of a branch, or of everything, as Atom. Raises NotFound for a key that no project has."""
    with site.store.view() as session:
        project = _with_key(session, key)
        context = "" if every else str(push_to(branch or project.main_branch))
        rows = newest_outcomes(session, project.id, context, MOST_ENTRIES)
        told = [_told(site, project, o, r) for o, r in rows]
        title = project.name if every else f"{project.name} {branch or project.main_branch}"
        return atom(title, f"{site.address}/p/{project.name}", told, datetime.now(UTC))


def calendar_of(site: Site, key: str) -> str:
    """The next times of a project's schedules as iCalendar. Raises NotFound for a key that no project has."""
    now = datetime.now(UTC)
    with site.store.view() as session:
        project = _with_key(session, key)
        newest = newest_planned_push(session, project.id, project.main_branch)
        plan = plan_of_run(session, newest) if newest is not None else None
        times = {s.name: s.times for s in plan.events.schedules} if plan is not None else {}
        coming = [
            Coming(kept.name, kept.words, at)
            for kept in schedules_of(session, project.id)
            for at in (islice(times[kept.name].after(now), MOST_TIMES) if kept.name in times else [kept.next_at])
        ]
        return calendar(project.name, f"{site.address}/p/{project.name}", coming, now)


def _with_key(session: Session, key: str) -> Project:
    project = project_with_badge_key(session, key) if key else None
    if project is None:
        raise NotFound("there is no feed at this address")
    return project


def _told(site: Site, project: Project, outcome: Outcome, run: Run) -> Told:
    context = parse_context(run.context)
    return Told(
        outcome.id,
        project.name,
        run.number,
        context.said if context else run.context,
        run.commit,
        str(outcome.verdict),
        outcome.news,
        outcome.sentence,
        outcome.at,
        site.run_address(project.name, run.number),
    )
