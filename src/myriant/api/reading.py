"""Routes for reading: projects, runs, findings, attempts, logs, runners, verdicts."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Header, Query, Request, Response
from fastapi.responses import PlainTextResponse, StreamingResponse

from myriant.api.access import ThePerson, TheSite, person
from myriant.flow.ask.attempt import AttemptView, attempt_view, report_source
from myriant.flow.ask.desk import Desk, desk_view, load_now
from myriant.flow.ask.findings.answer import findings_of
from myriant.flow.ask.findings.model import Findings
from myriant.flow.ask.log import whole_log
from myriant.flow.ask.projects import ProjectLine, project_line, project_lines
from myriant.flow.ask.queue import Load
from myriant.flow.ask.run import RunView, plan_text, run_view
from myriant.flow.ask.strip import Strip, strip_of
from myriant.flow.ask.verdicts import VerdictView, untested_reasons, verdicts_of
from myriant.flow.logs import log_piece
from myriant.flow.who import Person

router = APIRouter(dependencies=[Depends(person)])


@router.get("/me")
def me(who: ThePerson) -> Person:
    return who


@router.get("/projects")
def projects(site: TheSite) -> list[ProjectLine]:
    return project_lines(site)


@router.get("/projects/{project}")
def project(site: TheSite, project: str) -> ProjectLine:
    return project_line(site, project)


@router.get("/projects/{project}/strip")
def strip(
    site: TheSite,
    project: str,
    branch: str | None = None,
    before: int | None = None,
    limit: Annotated[int, Query(ge=1, le=5000)] = 200,
) -> Strip:
    return strip_of(site, project, branch, before, limit)


@router.get("/projects/{project}/runs/{number}")
def run(site: TheSite, project: str, number: int) -> RunView:
    return run_view(site, project, number)


@router.get("/projects/{project}/runs/{number}/plan", response_class=PlainTextResponse)
def run_plan(site: TheSite, project: str, number: int) -> PlainTextResponse:
    """The text of the plan that a run was made by."""
    return PlainTextResponse(plan_text(site, project, number))


@router.get("/projects/{project}/runs/{number}/findings")
def findings(site: TheSite, project: str, number: int, base: int | None = None) -> Findings:
    return findings_of(site, project, number, base)


@router.get("/attempts/{attempt}")
def attempt(site: TheSite, attempt: int) -> AttemptView:
    return attempt_view(site, attempt)


@router.get("/attempts/{attempt}/log", response_class=Response, responses={200: {"content": {"text/plain": {}}}})
def log(
    site: TheSite,
    attempt: int,
    start: Annotated[int, Query(ge=0)] = 0,
    most: Annotated[int, Query(ge=1, le=4_000_000)] = 1_000_000,
) -> Response:
    """Log bytes from `start`; headers tell the size so far and whether it is complete."""
    piece, size, complete = log_piece(site, attempt, start, most)
    headers = {"X-Log-Size": str(size), "X-Log-Complete": "yes" if complete else "no", "Cache-Control": "no-store"}
    return Response(piece, media_type="text/plain; charset=utf-8", headers=headers)


@router.get("/attempts/{attempt}/log/raw", response_class=Response)
def raw_log(site: TheSite, attempt: int) -> StreamingResponse:
    """The whole log as a file, whatever its size."""
    headers = {
        "Content-Disposition": f'attachment; filename="attempt-{attempt}.log"',
        "X-Content-Type-Options": "nosniff",
    }
    return StreamingResponse(whole_log(site, attempt), media_type="application/octet-stream", headers=headers)


@router.get("/reports/{report}/raw", response_class=Response)
def raw_report(site: TheSite, report: int) -> StreamingResponse:
    blob, name = report_source(site, report)
    safe = "".join(c if c.isascii() and (c.isalnum() or c in "._-") else "_" for c in name)
    headers = {"Content-Disposition": f'attachment; filename="{safe}"', "X-Content-Type-Options": "nosniff"}
    return StreamingResponse(site.blobs.chunks(blob), media_type="application/octet-stream", headers=headers)


@router.get("/desk")
def desk(site: TheSite) -> Desk:
    return desk_view(site)


@router.get("/pulse")
def pulse(site: TheSite) -> Load:
    return load_now(site)


@router.get("/verdicts/{commit}")
def verdicts(site: TheSite, commit: str, project: str | None = None) -> list[VerdictView]:
    return verdicts_of(site, commit, project)


@router.get("/untested/{commit}")
def untested(site: TheSite, commit: str, project: str | None = None) -> list[str]:
    """Why a commit without a run has none."""
    return untested_reasons(site, commit, project)


@router.get("/live", response_class=StreamingResponse)
async def live(request: Request, last_event_id: Annotated[str | None, Header()] = None) -> StreamingResponse:
    """Server-sent events about what changed."""
    last = int(last_event_id) if last_event_id and last_event_id.isdigit() else None
    return StreamingResponse(
        request.app.state.live.stream(last), media_type="text/event-stream", headers={"Cache-Control": "no-store"}
    )
