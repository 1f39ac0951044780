"""Filters that a project's people keep."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel, StringConstraints

from myriant.api.access import MEMBER, VIEWER, ThePerson, TheSite
from myriant.flow.admin.filters import drop_filter as _drop_filter
from myriant.flow.admin.filters import keep_filter as _keep_filter
from myriant.flow.views.settings.filters import FilterView, filters_of

router = APIRouter()
_Short = Annotated[str, Query(max_length=80)]


class FilterWish(BaseModel):
    page: Annotated[str, StringConstraints(max_length=40)]
    name: Annotated[str, StringConstraints(max_length=80, pattern=r"^[^\x00-\x1f\x7f]*$")]
    query: Annotated[str, StringConstraints(max_length=4000, pattern=r"^[^\x00-\x1f\x7f]*$")]


@router.get("/projects/{project}/filters", dependencies=[VIEWER])
def filters(site: TheSite, project: str) -> list[FilterView]:
    """What people of this project look for again and again."""
    return filters_of(site, project)


@router.put("/projects/{project}/filters", status_code=204, dependencies=[MEMBER])
def keep_filter(site: TheSite, who: ThePerson, project: str, wish: FilterWish) -> None:
    """Keep a page's filter under a name; one that is called so is replaced."""
    _keep_filter(site, project, wish.page, wish.name, wish.query, who)


@router.delete("/projects/{project}/filters", status_code=204, dependencies=[MEMBER])
def drop_filter(site: TheSite, project: str, page: _Short, name: _Short) -> None:
    """Keep a filter no more."""
    _drop_filter(site, project, page, name)
