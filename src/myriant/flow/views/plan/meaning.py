"""What a text would mean as a project's plan."""

from __future__ import annotations

import difflib
import json
import tomllib
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from itertools import islice
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.gate.loosened import loosened
from myriant.core.plan.advice import sample_events
from myriant.core.plan.advice_of_jobs import Surroundings
from myriant.core.plan.document import loads
from myriant.core.plan.intent import Event, starts_nothing
from myriant.core.plan.model import FILE_NAME, MOST_CELLS, Plan
from myriant.core.plan.read import read_plan
from myriant.core.states import EventKind
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.views.plan.problems import PlanProblem, problem_view
from myriant.flow.views.plan.rehearsal import Rehearsal, WantedEvent, event_wanted, rehearsed
from myriant.store.projects import branch_at, branches_of
from myriant.store.runners import runners_in_touch
from myriant.store.tables import Project


@dataclass(frozen=True, slots=True)
class Meaning:
    """All that a text means: its problems, and, when it can be used, what runs."""

    problems: list[PlanProblem]
    usable: bool
    rehearsal: Rehearsal | None  # every job with all its cells, for the first event that the plan speaks of
    difference: list[str]  # against the plan that stands, as lines of a unified diff
    loosened: list[str]  # what it asks less than the plan that stands: a run of it is held until that is accepted
    limit: int
    schedules: list[ScheduleMeaning]
    outline: list[str]  # what the plan says, line by line
    document: dict[str, Any]  # the values of the text, as the forms show them; empty when it is not valid TOML


@dataclass(frozen=True, slots=True)
class ScheduleMeaning:
    name: str
    words: str
    next: list[datetime]


def meaning(site: Site, project_name: str, text: str, event: WantedEvent | None = None) -> Meaning:
    """What a text would mean as the project's plan; with `event`, for that event."""
    with site.store.view() as session:
        project = the_project(session, project_name)
        around = _around(site, session, project)
        reading = read_plan(text.encode("utf-8", "surrogatepass"), around=around)
        rehearsal = None
        if reading.plan is not None:
            wanted = event_wanted(event) if event is not None else _first_event(reading.plan, project)
            rehearsal = rehearsed(session, project, reading.plan, wanted)
        main = branch_at(session, project.id, project.main_branch)
        kept = project.plan or ""
    mirror = site.mirror(project)
    before = mirror.file(main, FILE_NAME) if main is not None else None
    stands = before.decode("utf-8", "replace") if before is not None else kept
    difference = difflib.unified_diff(
        stands.splitlines(), text.splitlines(), "as it stands", "as it is here", lineterm="", n=2
    )
    now = datetime.now(UTC)
    schedules = reading.plan.events.schedules if reading.plan is not None else ()
    return Meaning(
        problems=[problem_view(asdict(p)) for p in reading.problems],
        usable=reading.plan is not None,
        rehearsal=rehearsal,
        difference=list(islice(difference, 2000)),
        loosened=_loosened(reading.plan, stands),
        limit=MOST_CELLS,
        schedules=[ScheduleMeaning(s.name, s.times.words, list(islice(s.times.after(now), 3))) for s in schedules],
        outline=_outline(reading.plan) if reading.plan is not None else [],
        document=_document(text),
    )


def _loosened(plan: Plan | None, stands: str) -> list[str]:
    before = read_plan(stands.encode("utf-8", "surrogatepass")).plan if plan is not None and stands else None
    return loosened(plan, before) if plan is not None and before is not None else []


def _document(text: str) -> dict[str, Any]:
    try:
        found: dict[str, Any] = json.loads(json.dumps(loads(text), default=str))
    except (tomllib.TOMLDecodeError, RecursionError, ValueError):
        return {}
    return found


def _outline(plan: Plan) -> list[str]:
    """The events of a plan in words."""
    events, said = plan.events, []
    for wanted, what, to in ((events.push, "Every push", "to"), (events.pull_request, "Every pull request", "into")):
        if wanted is None:
            said.append(f"{what} starts nothing")
            continue
        line = f"{what} {to} {' or '.join(wanted.branches) if wanted.branches else 'any branch'}"
        if wanted.touching:
            line += f" that touches {', '.join(wanted.touching)}"
        if wanted.unless_only:
            line += f", unless only {', '.join(wanted.unless_only)} changed"
        said.append(line)
    said.append("No tag" if events.tags is None else f"Every tag {' or '.join(events.tags)}".rstrip())
    said += [f"{s.name}: {s.times.words}{f', {s.branch}' if s.branch else ''}" for s in events.schedules]
    return said


def _first_event(plan: Plan, project: Project) -> Event:
    """A push to the main branch when the plan wants it, else the first event that it speaks of."""
    main = Event(EventKind.PUSH, project.main_branch)
    if not starts_nothing(plan, main):
        return main
    return next(
        (e for e in sample_events(plan) if not starts_nothing(plan, e)), Event(EventKind.MANUAL, project.main_branch)
    )


def _around(site: Site, session: Session, project: Project) -> Surroundings:
    runners = runners_in_touch(session)
    branches = branches_of(session, project.id)
    head = branches.get(project.main_branch)
    mirror = site.mirror(project)
    files: tuple[str, ...] | None = None
    if head is not None and mirror.has(head):
        files = tuple(mirror.files(head))
    return Surroundings(
        offers=frozenset(o for r in runners for o in r.offers) if runners else None,
        files=files,
        mentions=(lambda word: mirror.grep(head, word)) if head is not None and files is not None else None,
        branches=frozenset(branches) if branches else None,
        read=(lambda path: (mirror.file(head, path) or b"").decode("utf-8", "replace")) if head is not None else None,
    )
