"""Caches that projects keep."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel

from myriant.api.access import MEMBER, VIEWER, TheSite
from myriant.flow.admin.caches import forget_caches as _forget_caches
from myriant.flow.views.settings.caches import CacheLine, caches_of

router = APIRouter()


class Forgotten(BaseModel):
    caches: int


@router.get("/projects/{project}/caches", dependencies=[VIEWER])
def caches(site: TheSite, project: str) -> list[CacheLine]:
    return caches_of(site, project)


@router.delete("/projects/{project}/caches", dependencies=[MEMBER])
def forget_caches(site: TheSite, project: str, entry: int | None = None) -> Forgotten:
    """Forget one cache, or all of a project."""
    return Forgotten(caches=_forget_caches(site, project, entry))
