"""Badges of a project: what is said of a branch or tag now, at an address that only who was given it knows."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

from sqlalchemy.orm import Session

from myriant.core.coverage.model import Totals
from myriant.core.gate.measures import share_passed
from myriant.core.states import DECIDED, Verdict
from myriant.core.telling.badge import Badge
from myriant.core.written import counted, percent
from myriant.flow.errors import BadInput, NotFound
from myriant.flow.site import Site
from myriant.flow.views.words import words_of
from myriant.store.coverage import coverage_totals_of
from myriant.store.projects import BRANCH, TAG, commits_of_refs, project_with_badge_key
from myriant.store.runs import TAGGED, runs_on
from myriant.store.tables import Project, Run

MOST_LOOKED = 50  # runs of a ref, among them those of its head
WHATS = ("verdict", "tests", "coverage")


def badge_of(site: Site, key: str, what: str, branch: str, tag: str, job: str, text: str) -> Badge:
    """What a badge says now. Raises NotFound for a key that no project has."""
    if what not in WHATS:
        raise BadInput(f"there is no badge {what[:40]!r}", f"there are: {', '.join(WHATS)}")
    with site.store.view() as session:
        project = project_with_badge_key(session, key) if key else None
        if project is None:
            raise NotFound("there is no badge at this address")
        ref = f"{TAGGED}{tag}" if tag else branch or project.main_branch
        name = text or (tag or (f"{project.name} {branch}" if branch else project.name))
        runs = runs_on(session, project.id, ref, MOST_LOOKED)
        head = commits_of_refs(session, project.id).get(
            f"{TAG}{tag}" if tag else f"{BRANCH}{branch or project.main_branch}"
        )
        if not runs and head is None:
            return Badge(name, "nothing has run")
        mine = [r for r in runs if (tag or head is None or r.commit == head)]
        if not mine:
            return Badge(name, "not tested yet")
        return _badge(session, project, mine, what, job, name)


def _badge(session: Session, project: Project, runs: Sequence[Run], what: str, job: str, name: str) -> Badge:
    """`runs` are those of the commit that stands there now, the newest first; evidence among them has no verdict."""
    commit = runs[0].commit
    verdict = Verdict(words_of(session, project.id, {commit})[commit].verdict)
    mark = str(verdict) if verdict is not Verdict.NONE else "undecided"
    if what == "verdict":
        return Badge(name, str(verdict) if verdict is not Verdict.NONE else "no verdict", mark)
    told = next((r for r in runs if r.commit == commit and r.verdict in DECIDED), None)
    if told is None:
        return Badge(name, "not measured yet", mark)
    if what == "tests":
        jobs = [j for n, j in told.measures.jobs.items() if not job or n == job]
        share = share_passed(jobs)
        ran = sum(j["tests.passed"] + j["tests.failed"] + j["tests.errored"] for j in jobs)
        return Badge(name, f"{percent(share)} of {counted(ran, 'test')}" if share is not None else "no tests", mark)
    line_share: Fraction | None = coverage_totals_of(session, [told.id]).get((told.id, job), Totals()).line_share
    return Badge(name, f"{percent(line_share)} of lines" if line_share is not None else "not measured", mark)
