"""Badges of a project: what is said of a branch or tag now, at an address that only who was given it knows."""

from __future__ import annotations

import secrets
from fractions import Fraction

from sqlalchemy.orm import Session

from myriant.core.coverage.model import Totals
from myriant.core.gate.measures import share_passed
from myriant.core.states import Verdict
from myriant.core.telling.badge import Badge
from myriant.core.written import counted, percent
from myriant.flow.ask.words import words_of
from myriant.flow.errors import BadInput, NotFound
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.coverage import coverage_totals_of
from myriant.store.projects import project_with_badge_key
from myriant.store.runs import TAGGED, runs_on
from myriant.store.tables import Project, Run

WHATS = ("verdict", "tests", "coverage")


def badge_key(site: Site, name: str) -> str:
    """What stands in the addresses of a project's badges; made when it is first asked for."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        project.badge_key = project.badge_key or secrets.token_urlsafe(16)
        return project.badge_key


def badge_of(site: Site, key: str, what: str, branch: str, tag: str, job: str, text: str) -> Badge:
    """What a badge says now. Raises NotFound for a key that no project has."""
    if what not in WHATS:
        raise BadInput(f"there is no badge {what[:40]!r}", f"there are: {', '.join(WHATS)}")
    with site.store.transaction() as session:
        project = project_with_badge_key(session, key) if key else None
        if project is None:
            raise NotFound("there is no badge at this address")
        ref = f"{TAGGED}{tag}" if tag else branch or project.main_branch
        name = text or (tag or (f"{project.name} {branch}" if branch else project.name))
        runs = runs_on(session, project.id, ref, 1)
        if not runs:
            return Badge(name, "nothing has run")
        return _badge(session, project, runs[0], what, job, name)


def _badge(session: Session, project: Project, newest: Run, what: str, job: str, name: str) -> Badge:
    word = words_of(session, project.id, {newest.commit})[newest.commit]
    verdict = Verdict(word.verdict)
    mark = str(verdict) if verdict is not Verdict.NONE else "undecided"
    if what == "verdict":
        return Badge(name, str(verdict) if verdict is not Verdict.NONE else "no verdict", mark)
    if what == "tests":
        jobs = [j for n, j in newest.measures.get("jobs", {}).items() if not job or n == job]
        share = share_passed(jobs)
        ran = sum(j["tests.passed"] + j["tests.failed"] + j["tests.errored"] for j in jobs)
        said = f"{percent(share)} of {counted(ran, 'test')}" if share is not None else "no tests yet"
        return Badge(name, said, mark)
    totals = coverage_totals_of(session, [newest.id]).get((newest.id, job), Totals())
    share_: Fraction | None = totals.line_share
    return Badge(name, f"{percent(share_)} of lines" if share_ is not None else "not measured", mark)
