"""Routes for acting: signing in, adding projects, a hook's bell."""

from __future__ import annotations

from fastapi import APIRouter, HTTPException, Request, Response
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from myriant.api.access import COOKIE, ThePerson, TheSite, bearer
from myriant.flow.intake.refs import Moved, hear
from myriant.flow.keep.people import SESSION, is_token_of, sign_in_link
from myriant.flow.keep.people import sign_in as _sign_in
from myriant.flow.keep.projects import Added, add_project

router = APIRouter()


class Link(BaseModel):
    token: str = Field(max_length=200)


class NewProject(BaseModel):
    address: str = Field(max_length=2000)
    name: str | None = Field(None, max_length=60)
    description: str = Field("", max_length=2000)


class Bell(BaseModel):
    moved: list[Moved] = Field(max_length=10_000)


class SignInLink(BaseModel):
    link: str


class Said(BaseModel):
    said: list[str]


@router.post("/sign-in", status_code=204)
def sign_in(site: TheSite, link: Link, request: Request, response: Response) -> None:
    token = _sign_in(site, link.token)
    secure = request.url.scheme == "https"
    response.set_cookie(
        COOKIE, token, max_age=int(SESSION.total_seconds()), httponly=True, samesite="lax", secure=secure
    )


@router.post("/sign-in-links", status_code=201)
def new_link(site: TheSite, who: ThePerson) -> SignInLink:
    """A one-time link that signs its first visitor in as the person asking."""
    return SignInLink(link=sign_in_link(site, who.id))


@router.post("/projects", status_code=201)
def new_project(site: TheSite, who: ThePerson, wish: NewProject) -> Added:
    if not who.may("admin"):
        raise HTTPException(403, "only an admin can add projects")
    return add_project(site, wish.address, wish.name, wish.description)


@router.post("/projects/{project}/bell")
async def bell(site: TheSite, request: Request, project: str, rung: Bell) -> Said:
    """A repository's hook tells which branches moved."""
    token = bearer(request)
    if not await run_in_threadpool(is_token_of, site, token, "hook", project):
        raise HTTPException(401, "this is not the hook's token")
    numbers = await run_in_threadpool(hear, site, project, rung.moved)
    return Said(said=[f"run #{n} {site.run_address(project, n)}" for n in numbers])
