"""The tests of runs and over time; flaky ones; quarantine; kinds of failure."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field

from myriant.api.access import MAINTAINER, MEMBER, VIEWER, ThePerson, TheSite
from myriant.flow.actions.quarantine import end_quarantine as _end_quarantine
from myriant.flow.actions.quarantine import quarantine as _quarantine
from myriant.flow.admin.kinds import MOST_TEXT
from myriant.flow.admin.kinds import set_kinds as _set_kinds
from myriant.flow.diagnose.flakes import Flakes, QuarantineView, flakes_of
from myriant.flow.diagnose.kinds import KindsView, kinds_told
from myriant.flow.views.tests.grid import MOST_ROWS, TestsPage, Wanted, grid_of_tests
from myriant.flow.views.tests.page import TestView, test_view

router = APIRouter()


class QuarantineWish(BaseModel):
    tests: list[int] = Field(min_length=1, max_length=5000)
    reason: str = Field(max_length=2000)
    owner: str = Field("", max_length=200)
    until: datetime


class KindsText(BaseModel):
    text: str = Field(max_length=MOST_TEXT)


@router.get("/projects/{project}/runs/{number}/tests", dependencies=[VIEWER])
def run_tests(
    site: TheSite,
    project: str,
    number: int,
    base: int | None = None,
    state: Annotated[str, Query(max_length=20)] = "not-passed",
    search: Annotated[str, Query(max_length=500)] = "",
    slower_than: Annotated[float | None, Query(ge=0)] = None,
    cell: Annotated[list[str], Query(max_length=5000)] = [],  # noqa: B006
    offset: Annotated[int, Query(ge=0)] = 0,
    limit: Annotated[int, Query(ge=1, le=MOST_ROWS)] = 200,
) -> TestsPage:
    """A window of the tests of a run with a mark for each cell."""
    wanted = Wanted(state, search, slower_than, cell, offset, limit)
    return grid_of_tests(site, project, number, base, wanted)


@router.get("/projects/{project}/tests/{test}", dependencies=[VIEWER])
def one_test(site: TheSite, project: str, test: int) -> TestView:
    """One test over its history."""
    return test_view(site, project, test)


@router.get("/projects/{project}/flaky", dependencies=[VIEWER])
def flaky(site: TheSite, project: str) -> Flakes:
    """Flaky tests with their evidence, cost and quarantine."""
    return flakes_of(site, project)


@router.post("/projects/{project}/quarantines", status_code=201, dependencies=[MEMBER])
def quarantine(site: TheSite, who: ThePerson, project: str, wish: QuarantineWish) -> list[QuarantineView]:
    """Set tests aside: their failures hold nothing until a date."""
    return _quarantine(site, project, wish.tests, wish.reason, wish.owner, wish.until, who)


@router.delete("/projects/{project}/quarantines/{quarantine}", dependencies=[MEMBER])
def end_quarantine(
    site: TheSite, who: ThePerson, project: str, quarantine: int, why: Annotated[str, Query(max_length=500)] = ""
) -> QuarantineView:
    """Take a test back into the gate."""
    return _end_quarantine(site, project, quarantine, why, who)


@router.get("/projects/{project}/kinds", dependencies=[VIEWER])
def told_kinds(site: TheSite, project: str) -> KindsView:
    """Shapes of failures that the project adds to the usual ones."""
    return kinds_told(site, project)


@router.put("/projects/{project}/kinds", dependencies=[MAINTAINER])
def set_kinds(site: TheSite, who: ThePerson, project: str, wish: KindsText) -> KindsView:
    """Keep shapes of failures for this project, as TOML."""
    return _set_kinds(site, project, wish.text, who)
