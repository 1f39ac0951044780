"""Routes about results and why they are so: tests, findings' changes and searches, flaky tests, exports, sendings."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Annotated

from fastapi import APIRouter, Depends, Header, HTTPException, Query, Request, Response
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from myriant.api.access import ThePerson, TheSite, person
from myriant.flow.ask.exports import csv_rows, junit_xml, parquet
from myriant.flow.ask.flakes import Flakes, QuarantineView, flakes_of
from myriant.flow.ask.kinds import KindsView, kinds_told
from myriant.flow.ask.search import SearchView, propose_search
from myriant.flow.ask.source import SourceFile
from myriant.flow.ask.source import file_at as _file_at
from myriant.flow.ask.suspects import Changed, changes_since
from myriant.flow.ask.tests.grid import MOST_ROWS, TestsPage, Wanted, tests_of_run
from myriant.flow.ask.tests.page import TestView, test_view
from myriant.flow.control.quarantine import end_quarantine as _end_quarantine
from myriant.flow.control.quarantine import quarantine as _quarantine
from myriant.flow.control.searches import begin_search as _begin_search
from myriant.flow.control.searches import stop_search as _stop_search
from myriant.flow.intake.sending import (
    MOST_FILES,
    MOST_PIECE,
    Offer,
    SendingStanding,
    SentFile,
    finish,
    offer,
    take_piece,
)
from myriant.flow.keep.kinds import MOST_TEXT
from myriant.flow.keep.kinds import set_kinds as _set_kinds
from myriant.flow.who import Person

router = APIRouter(dependencies=[Depends(person)])


def _may(who: Person, role: str, what: str) -> None:
    if not who.may(role):
        raise HTTPException(403, f"only a {role} can {what}")


@router.get("/projects/{project}/runs/{number}/tests")
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
    return tests_of_run(site, project, number, base, wanted)


@router.get("/projects/{project}/tests/{test}")
def one_test(site: TheSite, project: str, test: int) -> TestView:
    """One test over its history."""
    return test_view(site, project, test)


@router.get("/projects/{project}/runs/{number}/tests/{test}/changes")
def changes(site: TheSite, project: str, number: int, test: int) -> Changed:
    """What changed since a failing test last passed, the likeliest cause first."""
    return changes_since(site, project, number, test)


@router.get("/projects/{project}/runs/{number}/tests/{test}/search")
def search(site: TheSite, project: str, number: int, test: int) -> SearchView:
    """The search for the first bad commit as it stands, or what it would cost."""
    return propose_search(site, project, number, test)


@router.post("/projects/{project}/runs/{number}/tests/{test}/search")
def begin_search(site: TheSite, who: ThePerson, project: str, number: int, test: int) -> SearchView:
    """Begin to search for the first bad commit, or go on."""
    _may(who, "member", "search for the first bad commit")
    return _begin_search(site, project, number, test, who)


@router.delete("/projects/{project}/runs/{number}/tests/{test}/search")
def stop_search(site: TheSite, who: ThePerson, project: str, number: int, test: int) -> SearchView:
    """Stop a search; it can be gone on with."""
    _may(who, "member", "stop a search")
    return _stop_search(site, project, number, test)


@router.get("/projects/{project}/flaky")
def flaky(site: TheSite, project: str) -> Flakes:
    """Flaky tests with their evidence, cost and quarantine."""
    return flakes_of(site, project)


class QuarantineWish(BaseModel):
    tests: list[int] = Field(min_length=1, max_length=5000)
    reason: str = Field(max_length=2000)
    owner: str = Field("", max_length=200)
    until: datetime


@router.post("/projects/{project}/quarantines", status_code=201)
def quarantine(site: TheSite, who: ThePerson, project: str, wish: QuarantineWish) -> list[QuarantineView]:
    """Set tests aside: their failures hold nothing until a date."""
    _may(who, "member", "quarantine a test")
    return _quarantine(site, project, wish.tests, wish.reason, wish.owner, wish.until, who)


@router.delete("/projects/{project}/quarantines/{quarantine}")
def end_quarantine(
    site: TheSite, who: ThePerson, project: str, quarantine: int, why: Annotated[str, Query(max_length=500)] = ""
) -> QuarantineView:
    """Take a test back into the gate."""
    _may(who, "member", "end a quarantine")
    return _end_quarantine(site, project, quarantine, why, who)


class KindsText(BaseModel):
    text: str = Field(max_length=MOST_TEXT)


@router.get("/projects/{project}/kinds")
def told_kinds(site: TheSite, project: str) -> KindsView:
    """Shapes of failures that the project adds to the usual ones."""
    return kinds_told(site, project)


@router.put("/projects/{project}/kinds")
def set_kinds(site: TheSite, who: ThePerson, project: str, wish: KindsText) -> KindsView:
    """Keep shapes of failures for this project, as TOML."""
    _may(who, "maintainer", "change the kinds of failure")
    return _set_kinds(site, project, wish.text, who)


@router.get("/projects/{project}/file")
def file_at(
    site: TheSite,
    project: str,
    commit: Annotated[str, Query(max_length=64)],
    path: Annotated[str, Query(max_length=4000)],
) -> SourceFile:
    """A file of the repository at a commit."""
    return _file_at(site, project, commit, path)


_EXPORTS = {
    "xml": ("application/xml", junit_xml), "csv": ("text/csv; charset=utf-8", csv_rows),
}  # fmt: skip


@router.get("/projects/{project}/runs/{number}/results.{form}", response_class=Response)
def export_results(site: TheSite, project: str, number: int, form: str) -> Response:
    """All results of a run: one JUnit XML with a suite for each cell (xml), CSV (csv) or Parquet (parquet)."""
    headers = {
        "Content-Disposition": f'attachment; filename="results-{number}.{form}"', "X-Content-Type-Options": "nosniff",
    }  # fmt: skip
    if form == "parquet":
        data = parquet(site, project, number)
        return Response(data, media_type="application/vnd.apache.parquet", headers=headers)
    if form not in _EXPORTS:
        raise HTTPException(404, "results are given as xml, csv or parquet")
    media, rows = _EXPORTS[form]
    parts = rows(site, project, number)
    first = next(parts)  # an unknown run is told before the answer begins
    return StreamingResponse(_with(first, parts), media_type=media, headers=headers)


def _with(first: str, rest: Iterator[str]) -> Iterator[str]:
    yield first
    yield from rest


class FileOffer(BaseModel):
    path: str = Field(max_length=1000)
    digest: str = Field(max_length=64)
    size: int
    content: str = Field("tests", max_length=20)


class SendingOffer(BaseModel):
    id: str = Field(max_length=32)
    commit: str = Field(max_length=64)
    branch: str = Field("", max_length=500)
    job: str = Field(max_length=60)
    values: dict[str, str] = Field(default_factory=dict, max_length=20)
    kind: str = Field("unit", max_length=40)
    version: str = Field("", max_length=200)
    files: list[FileOffer] = Field(max_length=MOST_FILES)


class Offset(BaseModel):
    offset: int


class Became(BaseModel):
    run: int
    address: str


@router.post("/projects/{project}/sendings", status_code=201)
def offer_sending(site: TheSite, who: ThePerson, project: str, wish: SendingOffer) -> SendingStanding:
    """Begin to send results made elsewhere, or learn how much of them is there."""
    _may(who, "member", "send results")
    files = [SentFile(f.path, f.digest, f.size, f.content) for f in wish.files]
    told = Offer(wish.id, wish.commit, wish.branch, wish.job, wish.values, wish.kind, wish.version, files)
    return offer(site, project, told)


@router.put("/projects/{project}/sendings/{sent}/files/{number}")
async def take_sending_piece(
    site: TheSite,
    who: ThePerson,
    request: Request,
    project: str,
    sent: str,
    number: int,
    offset: Annotated[int, Query(ge=0)],
    content_length: Annotated[int, Header(ge=0)],
) -> Offset:
    """One piece of a file, in the body; what is there already is left out."""
    _may(who, "member", "send results")
    if content_length > MOST_PIECE:
        raise HTTPException(413, f"send pieces of at most {MOST_PIECE:,} bytes")
    data = await request.body()
    return Offset(offset=await run_in_threadpool(take_piece, site, project, sent, number, offset, data))


@router.post("/projects/{project}/sendings/{sent}/finish")
def finish_sending(site: TheSite, who: ThePerson, project: str, sent: str) -> Became:
    """All is sent: read it and judge it."""
    _may(who, "member", "send results")
    number = finish(site, project, sent, who)
    return Became(run=number, address=site.run_address(project, number))
