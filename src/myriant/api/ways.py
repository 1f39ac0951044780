"""Where outcomes are told, and what was told."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import APIRouter
from fastapi import Path as ApiPath
from pydantic import BaseModel, Field

from myriant.api.access import MAINTAINER, MEMBER, VIEWER, ThePerson, TheSite
from myriant.core.states import Page, Wants
from myriant.core.telling.template import VALUES
from myriant.flow.admin.hearers import HearerView
from myriant.flow.admin.hearers import hearers as _hearers
from myriant.flow.admin.hearers import remove_hearer as _remove_hearer
from myriant.flow.admin.hearers import set_hearer as _set_hearer
from myriant.flow.admin.ways import SentView, WayView, WayWish, send_again
from myriant.flow.admin.ways import remove_way as _remove_way
from myriant.flow.admin.ways import sent as _sent
from myriant.flow.admin.ways import set_way as _set_way
from myriant.flow.admin.ways import try_way as _try_way
from myriant.flow.admin.ways import ways as _ways
from myriant.flow.announce.sending import Answer

router = APIRouter()


class NewWay(BaseModel):
    kind: Annotated[str, Field(pattern="^(request|mail)$")] = "request"
    always: bool = False
    branches: list[Annotated[str, Field(max_length=500)]] = Field([], max_length=50)
    events: list[Literal["push", "pull-request", "tag", "schedule"]] = Field([], max_length=10)
    on: bool = True
    morning: str = Field("", max_length=200)  # "weekday 07:30 Europe/Oslo": a page is told then
    page: Page = Page.MORNING
    url: str = Field("", max_length=2000)
    method: str = Field("POST", max_length=10)
    headers: dict[str, Annotated[str, Field(max_length=4000)]] = Field(default_factory=dict, max_length=30)
    body: str = Field("", max_length=64_000)
    to: list[Annotated[str, Field(max_length=320)]] = Field([], max_length=100)
    authors: bool = False
    owners: bool = False


class NamedValue(BaseModel):
    name: str
    means: str
    example: str | int | float | None


@router.get("/projects/{project}/ways", dependencies=[VIEWER])
def ways(site: TheSite, project: str) -> list[WayView]:
    """Where a project's outcomes are told."""
    return _ways(site, project)


@router.get("/template-values", dependencies=[VIEWER])
def template_values() -> list[NamedValue]:
    """The values that a request's template can name."""
    return [NamedValue(name=n, means=m, example=e) for n, (m, e) in VALUES.items()]


@router.put("/projects/{project}/ways/{way}", status_code=204, dependencies=[MAINTAINER])
def set_way(site: TheSite, who: ThePerson, project: str, way: str, wish: NewWay) -> None:
    """Tell a project's outcomes by a request or by mail."""
    _set_way(site, project, way, WayWish(**wish.model_dump()), who)


@router.delete("/projects/{project}/ways/{way}", status_code=204, dependencies=[MAINTAINER])
def remove_way(site: TheSite, who: ThePerson, project: str, way: str) -> None:
    _remove_way(site, project, way, who)


@router.post("/projects/{project}/ways/{way}/try", dependencies=[MAINTAINER])
def try_way(site: TheSite, project: str, way: str) -> Answer:
    """Send an example now."""
    return _try_way(site, project, way)


class Hearing(BaseModel):
    wants: Wants = Wants.MINE
    quiet: str = Field("", max_length=100)  # "22:00-07:00 Europe/Oslo"
    gathered: str = Field("", max_length=100)  # "weekday 08:00 Europe/Oslo"


Address = Annotated[str, ApiPath(max_length=320)]


@router.get("/projects/{project}/hearers", dependencies=[VIEWER])
def hearers(site: TheSite, project: str) -> list[HearerView]:
    """How people want to hear of a project's news by mail."""
    return _hearers(site, project)


@router.put("/projects/{project}/hearers/{address}", status_code=204, dependencies=[MEMBER])
def set_hearer(site: TheSite, who: ThePerson, project: str, address: Address, wish: Hearing) -> None:
    """Say how somebody hears: what of it, when not, and whether in one mail at a time."""
    _set_hearer(site, project, address, wish.wants, wish.quiet, wish.gathered, who)


@router.delete("/projects/{project}/hearers/{address}", status_code=204, dependencies=[MEMBER])
def remove_hearer(site: TheSite, who: ThePerson, project: str, address: Address) -> None:
    """Let somebody hear as the ways say."""
    _remove_hearer(site, project, address, who)


@router.get("/projects/{project}/sent", dependencies=[VIEWER])
def sent(site: TheSite, project: str, run: int | None = None) -> list[SentView]:
    """What was told, newest first: of one run, or of all."""
    return _sent(site, project, run)


@router.post("/projects/{project}/sent/{number}/again", status_code=202, dependencies=[MEMBER])
def tell_again(site: TheSite, project: str, number: int) -> None:
    """Try again what did not arrive."""
    send_again(site, project, number)
