"""Signing in and out."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel, Field

from myriant.api.access import COOKIE, OPEN, VIEWER, ThePerson, TheSite
from myriant.flow.admin.people import SESSION, sign_in_link
from myriant.flow.admin.people import sign_in as _sign_in
from myriant.flow.who import Person

router = APIRouter()


class Link(BaseModel):
    token: str = Field(max_length=200)


class SignInLink(BaseModel):
    link: str


@router.post("/sign-in", status_code=204, dependencies=[OPEN])
def sign_in(site: TheSite, link: Link, request: Request, response: Response) -> None:
    token = _sign_in(site, link.token)
    secure = request.url.scheme == "https"
    response.set_cookie(
        COOKIE, token, max_age=int(SESSION.total_seconds()), httponly=True, samesite="lax", secure=secure
    )


@router.post("/sign-in-links", status_code=201, dependencies=[VIEWER])
def new_link(site: TheSite, who: ThePerson) -> SignInLink:
    """A one-time link that signs its first visitor in as the person asking."""
    return SignInLink(link=sign_in_link(site, who.id))


@router.get("/me", dependencies=[VIEWER])
def me(who: ThePerson) -> Person:
    return who
