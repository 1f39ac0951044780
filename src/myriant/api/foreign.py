"""Events of another host, and how they are read."""

from __future__ import annotations

from fastapi import APIRouter, HTTPException, Request
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from myriant.api.access import MAINTAINER, SIGNED, VIEWER, ThePerson, TheSite
from myriant.flow.errors import Forbidden, NotFound
from myriant.flow.intake.foreign import ForeignMeaning, ForeignView, foreign_of, take_foreign
from myriant.flow.intake.foreign import set_foreign as _set_foreign
from myriant.flow.intake.foreign import try_foreign as _try_foreign
from myriant.flow.state.starting import Taken

router = APIRouter()
MOST_EVENT = 4 << 20  # a host may send a whole change with it


class NewForeign(BaseModel):
    mapping: str = Field("", max_length=20_000)  # JSON; empty: none are taken
    secret: str | None = Field(None, max_length=1000)  # None: the one that is kept


class Example(BaseModel):
    mapping: str = Field(max_length=20_000)
    example: str = Field(max_length=1_000_000)


@router.get("/projects/{project}/foreign-events", dependencies=[VIEWER])
def foreign(site: TheSite, project: str) -> ForeignView:
    """How another host's events are read."""
    return foreign_of(site, project)


@router.put("/projects/{project}/foreign-events", status_code=204, dependencies=[MAINTAINER])
def set_foreign(site: TheSite, who: ThePerson, project: str, wish: NewForeign) -> None:
    """Take another host's events, read by a mapping of JSON Pointers."""
    _set_foreign(site, project, wish.mapping, wish.secret, who)


@router.post("/projects/{project}/foreign-events/try", dependencies=[VIEWER])
def try_foreign(project: str, wish: Example) -> ForeignMeaning:
    """What an example would mean by a mapping; nothing is started."""
    return _try_foreign(wish.mapping, wish.example)


@router.post("/foreign-events", responses={401: {}}, dependencies=[SIGNED])
async def foreign_event(site: TheSite, request: Request, project: str) -> Taken:
    """An event of another host, in its own shape, shown to be its own as the project's mapping says."""
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > MOST_EVENT:
            raise HTTPException(413, "an event may have 4 MiB at most")
    headers = {k.lower(): v for k, v in request.headers.items()}
    try:
        return await run_in_threadpool(take_foreign, site, project, bytes(body), headers)
    except (Forbidden, NotFound) as error:  # who does not know the secret learns of no name
        raise HTTPException(401, "the event's sender does not know this project's secret") from error
