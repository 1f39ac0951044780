"""Runs: what they say, and what a person wants of them; the word of a commit."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Annotated, Any

from fastapi import APIRouter, HTTPException, Query, Response
from fastapi.responses import PlainTextResponse, StreamingResponse
from pydantic import AwareDatetime, BaseModel, Field

from myriant.api.access import MAINTAINER, MEMBER, VIEWER, ThePerson, TheSite
from myriant.core.states import EventKind, Verdict
from myriant.flow.actions.accepting import Wish
from myriant.flow.actions.accepting import accept as _accept
from myriant.flow.actions.again import run_again as _run_again
from myriant.flow.actions.approvals import give_word
from myriant.flow.actions.stopping import stop_run
from myriant.flow.actions.waiving import Waiving as _Waiving
from myriant.flow.actions.waiving import end_waiver as _end_waiver
from myriant.flow.actions.waiving import waive as _waive
from myriant.flow.compare.waivers import WaiverView, waivers_told
from myriant.flow.diagnose.beside import CellMark, marks_against
from myriant.flow.intake.by_hand import start_by_hand
from myriant.flow.state.starting import Taken
from myriant.flow.views.evidence.timeline import Timeline
from myriant.flow.views.evidence.timeline import timeline as _timeline
from myriant.flow.views.past import (
    ArtifactSearch,
    FailureSearch,
    LogSearch,
    RunList,
    runs_as_csv,
    runs_of,
    search_artifacts,
    search_failures,
    search_logs,
)
from myriant.flow.views.run.exports import csv_rows, junit_xml, parquet
from myriant.flow.views.run.page import RunView, run_view, text_of_plan
from myriant.flow.views.run.verdicts import CommitWord, word_of_commit

router = APIRouter()


_EXPORTS = {
    "xml": ("application/xml", junit_xml),
    "csv": ("text/csv; charset=utf-8", csv_rows),
}


class ByHand(BaseModel):
    ref: str = Field("", max_length=500)
    jobs: list[str] = Field([], max_length=64)
    cells: str = Field("", max_length=2000)


class Word(BaseModel):
    given: bool
    reason: str = Field("", max_length=2000)


class Stopped(BaseModel):
    cells: int


class Again(BaseModel):
    which: Annotated[str, Field(pattern="^(all|not-passed|chosen)$")] = "all"
    cells: str = Field("", max_length=20_000)


class Begun(BaseModel):
    cells: int


def _with(first: str, rest: Iterator[str]) -> Iterator[str]:
    yield first
    yield from rest


class RunsWanted(BaseModel):
    """Which runs: what is left out says nothing."""

    text: str = Field("", max_length=200)  # in the title, the author's name, or at the beginning of the commit's id
    verdict: Verdict | None = None
    event: EventKind | None = None
    branch: str = Field("", max_length=500)
    since: AwareDatetime | None = None
    until: AwareDatetime | None = None

    def told(self) -> dict[str, Any]:
        return self.model_dump()


class Accepting(BaseModel):
    reason: str = Field(max_length=2000)
    loosened: list[Annotated[str, Field(max_length=4000)]] = Field([], max_length=1000)
    tests: list[int] = Field([], max_length=20_000)


class Accepted(BaseModel):
    accepted: int


class WaiverWish(BaseModel):
    rule: str = Field(max_length=500)
    reason: str = Field(max_length=2000)
    until: datetime
    everywhere: bool = False  # otherwise in the run's own context


@router.post("/projects/{project}/runs/{number}/acceptances", status_code=201, dependencies=[MAINTAINER])
def accept(site: TheSite, who: ThePerson, project: str, number: int, wish: Accepting) -> Accepted:
    """Accept what a run has less than before, with the reason; it is judged again."""
    done = _accept(site, project, number, Wish(wish.reason, wish.loosened, wish.tests), who)
    return Accepted(accepted=done)


@router.post("/projects/{project}/runs/{number}/waivers", status_code=201, dependencies=[MAINTAINER])
def waive(site: TheSite, who: ThePerson, project: str, number: int, wish: WaiverWish) -> WaiverView:
    """Let a rule that holds a run not hold it for a time, down to the value it has there; it is judged again."""
    return _waive(site, project, number, _Waiving(wish.rule, wish.until, wish.reason, wish.everywhere), who)


@router.get("/projects/{project}/waivers", dependencies=[VIEWER])
def waivers(site: TheSite, project: str) -> list[WaiverView]:
    """Which rules need not hold, where, until when, and who said so."""
    return waivers_told(site, project)


@router.delete("/projects/{project}/waivers/{waiver}", dependencies=[MAINTAINER])
def end_waiver(
    site: TheSite, who: ThePerson, project: str, waiver: int, why: Annotated[str, Query(max_length=500)] = ""
) -> WaiverView:
    """Let a rule hold again what is judged from now on."""
    return _end_waiver(site, project, waiver, why, who)


@router.get("/projects/{project}/runs", dependencies=[VIEWER])
def runs(
    site: TheSite,
    project: str,
    wanted: Annotated[RunsWanted, Query()],
    before: int | None = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
) -> RunList:
    """All runs of a project that fit, on whatever branch, newest first."""
    return runs_of(site, project, wanted.told(), before, limit)


@router.get("/projects/{project}/runs.csv", response_class=Response, dependencies=[VIEWER])
def runs_csv(site: TheSite, project: str, wanted: Annotated[RunsWanted, Query()]) -> Response:
    """The same as CSV."""
    headers = {"Content-Disposition": 'attachment; filename="runs.csv"', "X-Content-Type-Options": "nosniff"}
    return Response(runs_as_csv(site, project, wanted.told()), media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/projects/{project}/failures", dependencies=[VIEWER])
def failures(
    site: TheSite,
    project: str,
    text: Annotated[str, Query(max_length=400)],
    days: Annotated[int, Query(ge=1, le=3650)] = 30,
) -> FailureSearch:
    """What failed with a text in its message or its test's name, by cause, over all runs of the last days."""
    return search_failures(site, project, text, days)


@router.get("/projects/{project}/artifacts", dependencies=[VIEWER])
def artifacts(
    site: TheSite,
    project: str,
    text: Annotated[str, Query(max_length=300)] = "",
    before: Annotated[int | None, Query(ge=1, le=2**62)] = None,
) -> ArtifactSearch:
    """Artifacts of all runs by a part of their path, or the beginning of their digest, the newest first."""
    return search_artifacts(site, project, text, before)


@router.get("/projects/{project}/logs", dependencies=[VIEWER])
def logs(
    site: TheSite,
    project: str,
    text: Annotated[str, Query(max_length=400)],
    days: Annotated[int, Query(ge=1, le=3650)] = 30,
    before: Annotated[int | None, Query(ge=1, le=2**31 - 1)] = None,
) -> LogSearch:
    """Which logs of the last days have a text, newest first; `before` goes on where an answer stopped."""
    return search_logs(site, project, text, days, before)


@router.get("/projects/{project}/runs/{number}", dependencies=[VIEWER])
def run(site: TheSite, project: str, number: int) -> RunView:
    return run_view(site, project, number)


@router.get("/projects/{project}/runs/{number}/marks", dependencies=[VIEWER])
def marks(site: TheSite, project: str, number: int, base: int) -> list[CellMark]:
    """The marks of a run's cells against another run than their own baselines."""
    return marks_against(site, project, number, base)


@router.get("/projects/{project}/runs/{number}/plan", response_class=PlainTextResponse, dependencies=[VIEWER])
def run_plan(site: TheSite, project: str, number: int) -> PlainTextResponse:
    """The text of the plan that a run was made by."""
    return PlainTextResponse(text_of_plan(site, project, number))


@router.get("/words/{commit}", dependencies=[VIEWER])
def word(site: TheSite, commit: str, project: str | None = None, context: str = "") -> list[CommitWord]:
    """What a commit is said to be, in each project that knows it: the worst of its contexts, or the one asked for."""
    return word_of_commit(site, commit, project, context)


@router.post("/projects/{project}/runs", status_code=201, dependencies=[MEMBER])
def start(site: TheSite, who: ThePerson, project: str, wish: ByHand) -> Taken:
    """Start a run by hand: a branch, tag or commit, all jobs or some, all cells or some."""
    return start_by_hand(site, project, ref=wish.ref, jobs=wish.jobs, cells=wish.cells, by=who.name)


@router.post("/projects/{project}/runs/{number}/stop", dependencies=[MEMBER])
def stop(site: TheSite, who: ThePerson, project: str, number: int) -> Stopped:
    """End what of a run still waits or runs."""
    return Stopped(cells=stop_run(site, project, number, who))


@router.post("/projects/{project}/runs/{number}/approvals/{job}", status_code=204, dependencies=[MEMBER])
def approve(site: TheSite, who: ThePerson, project: str, number: int, job: str, word: Word) -> None:
    """Give or refuse the word that a job behind the verdict waits for."""
    give_word(site, project, number, job, who, word.reason, given=word.given)


@router.get("/projects/{project}/runs/{number}/timeline", dependencies=[VIEWER])
def timeline(site: TheSite, project: str, number: int) -> Timeline:
    """What each cell of a run did when."""
    return _timeline(site, project, number)


@router.post("/projects/{project}/runs/{number}/again", dependencies=[MEMBER])
def run_again(site: TheSite, who: ThePerson, project: str, number: int, wish: Again) -> Begun:
    """Give cells of a run another attempt: all, those that did not pass, or those of a selector."""
    return Begun(cells=_run_again(site, project, number, wish.which, wish.cells, who))


@router.get("/projects/{project}/runs/{number}/results.{form}", response_class=Response, dependencies=[VIEWER])
def export_results(site: TheSite, project: str, number: int, form: str) -> Response:
    """All results of a run: one JUnit XML with a suite for each cell (xml), CSV (csv) or Parquet (parquet)."""
    headers = {
        "Content-Disposition": f'attachment; filename="results-{number}.{form}"',
        "X-Content-Type-Options": "nosniff",
    }
    if form == "parquet":
        data = parquet(site, project, number)
        return Response(data, media_type="application/vnd.apache.parquet", headers=headers)
    if form not in _EXPORTS:
        raise HTTPException(404, "results are given as xml, csv or parquet")
    media, rows = _EXPORTS[form]
    parts = rows(site, project, number)
    first = next(parts)  # an unknown run is told before the answer begins
    return StreamingResponse(_with(first, parts), media_type=media, headers=headers)
