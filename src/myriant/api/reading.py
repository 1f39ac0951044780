"""Routes for reading: projects, runs, findings, attempts, logs, runners, verdicts."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Header, Query, Request, Response
from fastapi.responses import PlainTextResponse, StreamingResponse

from myriant.api.access import ThePerson, TheSite, person
from myriant.flow import findings as found
from myriant.flow import logs, views
from myriant.flow.people import Person
from myriant.flow.queue import Load

router = APIRouter(dependencies=[Depends(person)])


@router.get("/me")
def me(who: ThePerson) -> Person:
    return who


@router.get("/projects")
def projects(site: TheSite) -> list[views.ProjectLine]:
    return views.projects(site)


@router.get("/projects/{project}")
def project(site: TheSite, project: str) -> views.ProjectLine:
    return views.project(site, project)


@router.get("/projects/{project}/strip")
def strip(
    site: TheSite,
    project: str,
    branch: str | None = None,
    before: int | None = None,
    limit: Annotated[int, Query(ge=1, le=5000)] = 200,
) -> views.Strip:
    return views.strip(site, project, branch, before, limit)


@router.get("/projects/{project}/runs/{number}")
def run(site: TheSite, project: str, number: int) -> views.RunView:
    return views.run(site, project, number)


@router.get("/projects/{project}/runs/{number}/plan", response_class=PlainTextResponse)
def run_plan(site: TheSite, project: str, number: int) -> PlainTextResponse:
    """The text of the plan that a run was made by."""
    return PlainTextResponse(views.plan_text(site, project, number))


@router.get("/projects/{project}/runs/{number}/findings")
def findings(site: TheSite, project: str, number: int, base: int | None = None) -> found.Findings:
    return found.findings(site, project, number, base)


@router.get("/attempts/{attempt}")
def attempt(site: TheSite, attempt: int) -> views.AttemptView:
    return views.attempt(site, attempt)


@router.get("/attempts/{attempt}/log", response_class=Response, responses={200: {"content": {"text/plain": {}}}})
def log(
    site: TheSite,
    attempt: int,
    start: Annotated[int, Query(ge=0)] = 0,
    most: Annotated[int, Query(ge=1, le=4_000_000)] = 1_000_000,
) -> Response:
    """Log bytes from `start`; headers tell the size so far and whether it is complete."""
    piece, size, complete = logs.piece(site, attempt, start, most)
    headers = {"X-Log-Size": str(size), "X-Log-Complete": "yes" if complete else "no", "Cache-Control": "no-store"}
    return Response(piece, media_type="text/plain; charset=utf-8", headers=headers)


@router.get("/attempts/{attempt}/log/raw", response_class=Response)
def raw_log(site: TheSite, attempt: int) -> StreamingResponse:
    """The whole log as a file, whatever its size."""
    headers = {
        "Content-Disposition": f'attachment; filename="attempt-{attempt}.log"',
        "X-Content-Type-Options": "nosniff",
    }
    return StreamingResponse(logs.whole(site, attempt), media_type="application/octet-stream", headers=headers)


@router.get("/reports/{report}/raw", response_class=Response)
def raw_report(site: TheSite, report: int) -> StreamingResponse:
    blob, name = views.report_source(site, report)
    safe = "".join(c if c.isascii() and (c.isalnum() or c in "._-") else "_" for c in name)
    headers = {"Content-Disposition": f'attachment; filename="{safe}"', "X-Content-Type-Options": "nosniff"}
    return StreamingResponse(site.blobs.chunks(blob), media_type="application/octet-stream", headers=headers)


@router.get("/desk")
def desk(site: TheSite) -> views.Desk:
    return views.desk(site)


@router.get("/pulse")
def pulse(site: TheSite) -> Load:
    return views.pulse(site)


@router.get("/verdicts/{commit}")
def verdicts(site: TheSite, commit: str, project: str | None = None) -> list[views.VerdictView]:
    return views.verdicts(site, commit, project)


@router.get("/untested/{commit}")
def untested(site: TheSite, commit: str, project: str | None = None) -> list[str]:
    """Why a commit without a run has none."""
    return views.untested(site, commit, project)


@router.get("/live", response_class=StreamingResponse)
async def live(request: Request, last_event_id: Annotated[str | None, Header()] = None) -> StreamingResponse:
    """Server-sent events about what changed."""
    last = int(last_event_id) if last_event_id and last_event_id.isdigit() else None
    return StreamingResponse(
        request.app.state.live.stream(last), media_type="text/event-stream", headers={"Cache-Control": "no-store"}
    )
