"""Secrets of projects: named, never shown."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from myriant.api.access import MAINTAINER, VIEWER, ThePerson, TheSite
from myriant.flow.admin.secrets import SecretView, secrets_of
from myriant.flow.admin.secrets import remove_secret as _remove_secret
from myriant.flow.admin.secrets import set_secret as _set_secret

router = APIRouter()


class NewSecret(BaseModel):
    value: str = Field(max_length=200_000)
    jobs: list[str] = Field([], max_length=100)
    events: list[str] = Field([], max_length=10)
    branches: list[str] = Field([], max_length=100)


@router.get("/projects/{project}/secrets", dependencies=[VIEWER])
def secrets(site: TheSite, project: str) -> list[SecretView]:
    """The secrets of a project by name; no value is ever shown."""
    return secrets_of(site, project)


@router.put("/projects/{project}/secrets/{name}", status_code=204, dependencies=[MAINTAINER])
def set_secret(site: TheSite, who: ThePerson, project: str, name: str, wish: NewSecret) -> None:
    _set_secret(site, project, name, wish.value, who, jobs=wish.jobs, events=wish.events, branches=wish.branches)


@router.delete("/projects/{project}/secrets/{name}", status_code=204, dependencies=[MAINTAINER])
def remove_secret(site: TheSite, who: ThePerson, project: str, name: str) -> None:
    _remove_secret(site, project, name, who)
