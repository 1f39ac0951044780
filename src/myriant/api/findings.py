"""What did not pass in a run, by cause; what changed since; the search for the first bad commit."""

from __future__ import annotations

from fastapi import APIRouter

from myriant.api.access import MEMBER, VIEWER, ThePerson, TheSite
from myriant.flow.ask.findings.answer import findings_of
from myriant.flow.ask.findings.model import Findings
from myriant.flow.ask.search import SearchView, propose_search
from myriant.flow.ask.suspects import Changed, changes_since
from myriant.flow.control.searches import begin_search as _begin_search
from myriant.flow.control.searches import stop_search as _stop_search

router = APIRouter()


@router.get("/projects/{project}/runs/{number}/findings", dependencies=[VIEWER])
def findings(site: TheSite, project: str, number: int, base: int | None = None) -> Findings:
    return findings_of(site, project, number, base)


@router.get("/projects/{project}/runs/{number}/tests/{test}/changes", dependencies=[VIEWER])
def changes(site: TheSite, project: str, number: int, test: int) -> Changed:
    """What changed since a failing test last passed, the likeliest cause first."""
    return changes_since(site, project, number, test)


@router.get("/projects/{project}/runs/{number}/tests/{test}/search", dependencies=[VIEWER])
def search(site: TheSite, project: str, number: int, test: int) -> SearchView:
    """The search for the first bad commit as it stands, or what it would cost."""
    return propose_search(site, project, number, test)


@router.post("/projects/{project}/runs/{number}/tests/{test}/search", dependencies=[MEMBER])
def begin_search(site: TheSite, who: ThePerson, project: str, number: int, test: int) -> SearchView:
    """Begin to search for the first bad commit, or go on."""
    return _begin_search(site, project, number, test, who)


@router.delete("/projects/{project}/runs/{number}/tests/{test}/search", dependencies=[MEMBER])
def stop_search(site: TheSite, project: str, number: int, test: int) -> SearchView:
    """Stop a search; it can be gone on with."""
    return _stop_search(site, project, number, test)
