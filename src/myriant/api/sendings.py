"""Results made elsewhere, sent piece by piece."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Header, HTTPException, Query, Request
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from myriant.api.access import MEMBER, ThePerson, TheSite
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

router = APIRouter()


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
    expected: int = Field(0, ge=0, le=10_000, description="Cells of the job that are sent in all; 0: nobody says.")


class Offset(BaseModel):
    offset: int


class Became(BaseModel):
    run: int
    address: str


@router.post("/projects/{project}/sendings", status_code=201, dependencies=[MEMBER])
def offer_sending(site: TheSite, project: str, wish: SendingOffer) -> SendingStanding:
    """Begin to send results made elsewhere, or learn how much of them is there."""
    files = [SentFile(f.path, f.digest, f.size, f.content) for f in wish.files]
    told = Offer(
        wish.id, wish.commit, wish.branch, wish.job, wish.values, wish.kind, wish.version, files, wish.expected
    )
    return offer(site, project, told)


@router.put("/projects/{project}/sendings/{sent}/files/{number}", dependencies=[MEMBER])
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
    if content_length > MOST_PIECE:
        raise HTTPException(413, f"send pieces of at most {MOST_PIECE:,} bytes")
    data = await request.body()
    return Offset(offset=await run_in_threadpool(take_piece, site, project, sent, number, offset, data))


@router.post("/projects/{project}/sendings/{sent}/finish", dependencies=[MEMBER])
def finish_sending(site: TheSite, who: ThePerson, project: str, sent: str) -> Became:
    """All is sent: read it and judge it."""
    number = finish(site, project, sent, who)
    return Became(run=number, address=site.run_address(project, number))
