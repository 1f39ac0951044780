"""What is told from outside: a hook's bell, CloudEvents, pull requests."""

from __future__ import annotations

import json
from typing import Any

from fastapi import APIRouter, HTTPException, Request
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from myriant.api.access import HOOK, MAINTAINER, MEMBER, SIGNED, VIEWER, ThePerson, TheSite
from myriant.core.states import PullState
from myriant.flow.intake.pulls import change_pull_request, test_again
from myriant.flow.intake.pulls import let_run as _let_run
from myriant.flow.intake.refs import Moved, hear, not_tested
from myriant.flow.intake.told import event_secret as _event_secret
from myriant.flow.intake.told import is_signed, take_event
from myriant.flow.state.starting import Taken
from myriant.flow.views.desk.projects import is_paused
from myriant.flow.views.pulls.page import Pulls, pulls_of

router = APIRouter()


_MOST_EVENT = 1 << 20


class Bell(BaseModel):
    moved: list[Moved] = Field(max_length=10_000)


class Said(BaseModel):
    said: list[str]


class PullRequestTold(BaseModel):
    source: str | None = Field(None, max_length=500)
    target: str | None = Field(None, max_length=500)
    title: str = Field("", max_length=500)
    author: str = Field("", max_length=200)
    state: PullState = PullState.OPEN
    trusted: bool | None = None  # whether its author may write here


class LetRun(BaseModel):
    head: str = Field(max_length=64)


class Secret(BaseModel):
    secret: str


@router.post("/projects/{project}/bell", dependencies=[HOOK])
async def bell(site: TheSite, project: str, rung: Bell) -> Said:
    """A repository's hook tells which branches moved."""
    numbers = await run_in_threadpool(hear, site, project, rung.moved)
    if not numbers and await run_in_threadpool(is_paused, site, project):
        return Said(said=[f"{project} is paused; this push is tested when it is resumed"])
    odd = [why for m in rung.moved if (why := not_tested(m.ref))]
    return Said(said=[*odd, *(f"run #{n} {site.run_address(project, n)}" for n in numbers)])


@router.put("/projects/{project}/pull-requests/{number}", dependencies=[MEMBER])
def pull_request(site: TheSite, project: str, number: int, wish: PullRequestTold) -> Taken:
    """Open, update or end a pull request by hand."""
    return change_pull_request(site, project, number, **wish.model_dump())


@router.get("/projects/{project}/pull-requests", dependencies=[VIEWER])
def pull_requests(site: TheSite, project: str, closed: bool = False) -> Pulls:
    """Open pull requests with what stands in the way of each; or those that are over."""
    return pulls_of(site, project, closed=closed)


@router.post("/projects/{project}/pull-requests/{number}/runs", status_code=201, dependencies=[MEMBER])
def test_pull_request(site: TheSite, project: str, number: int) -> Taken:
    """Test an open pull request as its branches stand now."""
    return test_again(site, project, number)


@router.post("/projects/{project}/pull-requests/{number}/word", status_code=201, dependencies=[MAINTAINER])
def let_run(site: TheSite, who: ThePerson, project: str, number: int, wish: LetRun) -> Taken:
    """Let a stranger's pull request run at the head that was looked at."""
    return _let_run(site, project, number, wish.head, who)


@router.post("/projects/{project}/event-secret", dependencies=[MAINTAINER])
def event_secret(site: TheSite, project: str) -> Secret:
    """The secret with which events told over HTTP are signed."""
    return Secret(secret=_event_secret(site, project))


@router.post("/events", responses={401: {}}, dependencies=[SIGNED])
async def event(site: TheSite, request: Request, project: str) -> Taken:
    """A CloudEvent 1.0 (structured JSON) with a CDEvents type.

    `X-Myriant-Signature: sha256=HMAC` over the body is made with the project's event secret.
    """
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > _MOST_EVENT:
            raise HTTPException(413, "an event may have 1 MiB at most")
    signature = request.headers.get("x-myriant-signature", "")
    if not await run_in_threadpool(is_signed, site, project, bytes(body), signature):
        raise HTTPException(401, "the event's signature is not that of this project's secret")
    try:
        content: Any = json.loads(body)
    except (ValueError, RecursionError) as error:
        raise HTTPException(400, f"the event is not JSON: {error}") from error
    if not isinstance(content, dict):
        raise HTTPException(400, "the event is not a JSON object")
    return await run_in_threadpool(take_event, site, project, content)
