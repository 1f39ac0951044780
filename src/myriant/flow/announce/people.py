"""Whom a mail about an outcome is for: those who are named, those whose changes it may be, those whose files it is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.plan.globs import matches
from myriant.core.plan.model import Plan
from myriant.core.states import Verdict
from myriant.core.telling.mail import is_address
from myriant.core.telling.news import News
from myriant.flow.announce.hearing import GATHERED
from myriant.flow.plans import plan_with
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.controls import has_controls
from myriant.store.records import Telling
from myriant.store.runs import newest_decided, run_numbered
from myriant.store.tables import Delivery, Project, Run

MOST_AUTHORS = 20
LONGEST = timedelta(minutes=10)  # that authors are not told yet because a control run goes on
AUTHORS = "\nauthors"  # ends the subject of what is for them alone
_BAD = (News.HELD, News.MORE)


def concerned(site: Site, session: Session, project: Project, run: Run) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Authors of what changed since the run's baseline, and owners of it and of what newly fails."""
    mirror = site.mirror(project)
    base = session.get(Run, run.baseline_id) if run.baseline_id is not None else None
    before = run.base or (base.commit if base is not None else None)
    authors = [run.author_mail]
    changed: Sequence[str] = ()
    try:
        if before is not None:
            authors = mirror.authors(before, run.commit, MOST_AUTHORS) or authors
            changed = mirror.changed_files(before, run.tested or run.commit) or ()
    except GitError:
        pass  # history was rewritten: who wrote the commit is told
    plan = plan_with(session, run.asked_digest or run.plan_digest)
    places = [*changed, *run.measures.places]
    known = tuple(a for a in dict.fromkeys(authors) if is_address(a))
    return known, tuple(owners_of(plan, places)) if plan is not None else ()


def owners_of(plan: Plan, places: Sequence[str]) -> list[str]:
    """Who owns some of these paths and tests, by the plan: of each the last owners that fit."""
    found: dict[str, None] = {}
    for place in dict.fromkeys(places):
        fitting = [o for o in plan.owners if any(matches(glob, place) for glob in o.of)]
        found.update(dict.fromkeys(fitting[-1].who if fitting else ()))
    return list(found)


def is_split(wish: Mapping[str, Any], told: Telling, session: Session, run: Run) -> bool:
    """Whether authors are told apart from the others: only once the control run does not clear them."""
    return bool(wish.get("authors")) and told.news in _BAD and has_controls(session, run.id)


def receivers(wish: Mapping[str, Any], told: Telling, subject: str, asked: Sequence[str] = ()) -> list[str]:
    """The addresses that one delivery goes to; `asked` want every piece of news."""
    authors = told.authors or ((told.mail,) if told.mail else ())
    if subject.startswith(GATHERED):
        return list(told.receivers or ())
    named = [*wish["to"], *(told.owners if wish.get("owners") else ()), *asked]
    if told.news == News.CLEARED:
        named += told.before  # who heard that it was held hears that it is mended
    if subject.endswith(AUTHORS):
        return [a for a in dict.fromkeys(authors) if a not in named]
    return list(dict.fromkeys([*named, *(authors if wish.get("authors") and not told.split else ())]))


def not_yet(session: Session, found: Delivery) -> bool:
    """Whether the control run still has to say whether the change did it."""
    if not found.subject.endswith(AUTHORS) or datetime.now(UTC) - found.created_at > LONGEST:
        return False
    run = run_numbered(session, found.project_id, found.run)
    return run is not None and run.verdict is Verdict.HELD and run.measures.control is None


def cleared(session: Session, found: Delivery) -> str:
    """Why authors are not told, empty when they are: the control run says that it was not their change."""
    if not found.subject.endswith(AUTHORS):
        return ""
    run = run_numbered(session, found.project_id, found.run)
    if run is None or run.verdict is not Verdict.HELD:
        return "it is not held any more"
    newest = newest_decided(session, run.project_id, run.context)
    if newest is not None and newest.verdict is Verdict.CLEAR:
        return f"it is clear again since #{newest.number}"
    said = run.measures.control or {}
    if said and not said.get("change") and not said.get("unsure"):
        return f"the control run says {' and '.join(k for k in ('world', 'chance') if said.get(k))}, not their change"
    return ""
