"""What did not pass in a run, by cause; what changed since; the search for the first bad commit."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from myriant.api.access import MEMBER, VIEWER, ThePerson, TheSite
from myriant.flow.actions.searches import begin_search as _begin_search
from myriant.flow.actions.searches import stop_search as _stop_search
from myriant.flow.actions.taking import give_back as _give_back
from myriant.flow.actions.taking import take as _take
from myriant.flow.diagnose.search import SearchView, propose_search
from myriant.flow.diagnose.suspects import Changed, changes_since
from myriant.flow.views.findings.answer import findings_of
from myriant.flow.views.findings.model import Findings

router = APIRouter()


@router.get("/projects/{project}/runs/{number}/findings", dependencies=[VIEWER])
def findings(site: TheSite, project: str, number: int, base: int | None = None) -> Findings:
    return findings_of(site, project, number, base)


@router.get("/projects/{project}/runs/{number}/tests/{test}/changes", dependencies=[VIEWER])
def changes(site: TheSite, project: str, number: int, test: int, finding: str = "") -> Changed:
    """What changed since a failing test last passed, the likeliest cause first."""
    return changes_since(site, project, number, test, finding)


@router.get("/projects/{project}/runs/{number}/tests/{test}/search", dependencies=[VIEWER])
def search(site: TheSite, project: str, number: int, test: int, finding: str = "") -> SearchView:
    """The search for the first bad commit as it stands, or what it would cost."""
    return propose_search(site, project, number, test, finding)


@router.post("/projects/{project}/runs/{number}/tests/{test}/search", dependencies=[MEMBER])
def begin_search(site: TheSite, who: ThePerson, project: str, number: int, test: int, finding: str = "") -> SearchView:
    """Begin to search for the first bad commit, or go on."""
    return _begin_search(site, project, number, test, who, finding)


@router.delete("/projects/{project}/runs/{number}/tests/{test}/search", dependencies=[MEMBER])
def stop_search(site: TheSite, project: str, number: int, test: int, finding: str = "") -> SearchView:
    """Stop a search; it can be gone on with."""
    return _stop_search(site, project, number, test, finding)


class Taking(BaseModel):
    title: str = Field(max_length=300)
    note: str = Field("", max_length=2000)


@router.put("/projects/{project}/runs/{number}/findings/{finding}/taking", status_code=204, dependencies=[MEMBER])
def take(site: TheSite, who: ThePerson, project: str, number: int, finding: str, wish: Taking) -> None:
    """Put your name on a finding, until it is fixed."""
    _take(site, project, number, finding, wish.title, wish.note, who)


@router.delete("/projects/{project}/findings/{finding}/taking", status_code=204, dependencies=[MEMBER])
def give_back(site: TheSite, who: ThePerson, project: str, finding: str) -> None:
    """Take the name off a finding."""
    _give_back(site, project, finding, who)
