"""Projects and the Desk."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, HTTPException, Query
from pydantic import BaseModel, Field

from myriant.api.access import ADMIN, MAINTAINER, VIEWER, ThePerson, TheSite
from myriant.core.states import EventKind
from myriant.flow.actions.accepting import start_from_today as _start_from_today
from myriant.flow.admin.projects import Added, Change, add_project, change_project, forget_project, set_credential
from myriant.flow.drill.asked import ask_for_drill
from myriant.flow.upkeep.retention import Freed
from myriant.flow.upkeep.retention import keep_for as _keep_for
from myriant.flow.upkeep.retention import would_free as _would_free
from myriant.flow.views.desk.page import Desk, desk_view
from myriant.flow.views.desk.projects import Kept, ProjectLine, kept_of, project_line, project_lines
from myriant.flow.views.settings.audit import AuditLine, audit_lines
from myriant.flow.views.settings.drill import DrillStanding, drill_standing
from myriant.flow.views.strip import Strip, strip_of

router = APIRouter()


class NewProject(BaseModel):
    address: str = Field(max_length=2000)
    name: str | None = Field(None, max_length=60)
    description: str = Field("", max_length=2000)


@router.post("/projects", status_code=201, dependencies=[ADMIN])
def new_project(site: TheSite, wish: NewProject) -> Added:
    return add_project(site, wish.address, wish.name, wish.description)


class Credential(BaseModel):
    password: str = Field(max_length=10_000)


@router.put("/projects/{project}/credential", status_code=204, dependencies=[ADMIN])
def put_credential(site: TheSite, project: str, wish: Credential) -> None:
    """What opens the project's repository: tried at once, sealed, shown to nobody; empty takes it away."""
    set_credential(site, project, wish.password)


@router.get("/projects", dependencies=[VIEWER])
def projects(site: TheSite) -> list[ProjectLine]:
    return project_lines(site)


@router.get("/projects/{project}", dependencies=[VIEWER])
def project(site: TheSite, project: str) -> ProjectLine:
    return project_line(site, project)


class ProjectChange(BaseModel):
    name: str | None = Field(None, max_length=60)
    description: str | None = Field(None, max_length=2000)
    paused: bool | None = None
    tracker: str | None = Field(None, max_length=2000)
    pull_refs: str | None = Field(None, max_length=200)
    pull_strangers: bool | None = None
    pull_target: str | None = Field(None, max_length=500)
    pull_refresh: str | None = Field(None, max_length=200)
    stranger_minutes: int | None = Field(None, ge=0, le=100_000_000)  # 0: no bound
    drill: str | None = Field(None, max_length=200)
    budget: int | None = Field(None, ge=0, le=100_000_000)  # minutes a month; 0: none
    event_budgets: dict[EventKind, Annotated[int, Field(ge=0, le=100_000_000)]] | None = None  # the same by event


class Named(BaseModel):
    name: str


@router.patch("/projects/{project}", dependencies=[MAINTAINER])
def change(site: TheSite, who: ThePerson, project: str, wish: ProjectChange) -> Named:
    """Rename, describe, pause or resume a project."""
    if wish.name not in (None, project) and not who.may("admin"):
        raise HTTPException(403, "only an admin can rename a project")
    return Named(name=change_project(site, project, Change(**wish.model_dump()), who))


@router.get("/projects/{project}/kept", dependencies=[VIEWER])
def kept(site: TheSite, project: str) -> Kept:
    """What would go with the project."""
    return kept_of(site, project)


class Keeping(BaseModel):
    days: int | None = None


@router.put("/projects/{project}/keeping", status_code=204, dependencies=[MAINTAINER])
def keep_for(site: TheSite, who: ThePerson, project: str, wish: Keeping) -> None:
    """How long logs and files are kept; nothing: for ever. Totals, results and verdicts are."""
    _keep_for(site, project, wish.days, who)


@router.get("/projects/{project}/keeping", dependencies=[VIEWER])
def would_free(site: TheSite, project: str, days: Annotated[int, Query(ge=1, le=3650)]) -> Freed:
    """What keeping for so many days would let go of now."""
    return _would_free(site, project, days)


@router.delete("/projects/{project}", status_code=204, dependencies=[ADMIN])
def remove(site: TheSite, project: str, really: Annotated[str, Query(max_length=60)]) -> None:
    """Remove a project with all that is kept about it; `really` is its name once more. The repository stays."""
    if really != project:
        raise HTTPException(422, "say the project's name once more to remove it")
    kept_of(site, project)
    forget_project(site, project)


@router.get("/projects/{project}/strip", dependencies=[VIEWER])
def strip(
    site: TheSite,
    project: str,
    branch: str | None = None,
    before: int | None = None,
    limit: Annotated[int, Query(ge=1, le=5000)] = 200,
) -> Strip:
    return strip_of(site, project, branch, before, limit)


@router.post("/projects/{project}/drill", status_code=202, dependencies=[MAINTAINER])
def drill(site: TheSite, who: ThePerson, project: str) -> DrillStanding:
    """Have the gate tried with artificial failures in a throw-away copy, and every place read; followed by a GET."""
    ask_for_drill(site, project, who)
    return drill_standing(site, project)


@router.get("/projects/{project}/drill", dependencies=[VIEWER])
def drill_asked(site: TheSite, project: str) -> DrillStanding:
    """The drill that somebody asked for last."""
    return drill_standing(site, project)


@router.get("/desk", dependencies=[VIEWER])
def desk(site: TheSite) -> Desk:
    return desk_view(site)


class Starting(BaseModel):
    reason: str = Field(max_length=2000)


class Started(BaseModel):
    commit: str


@router.post("/projects/{project}/start", status_code=201, dependencies=[MAINTAINER])
def start_from_today(site: TheSite, who: ThePerson, project: str, wish: Starting) -> Started:
    """Take the head of the main branch as it is: what fails there is known from now on."""
    return Started(commit=_start_from_today(site, project, wish.reason, who))


@router.get("/projects/{project}/audit", dependencies=[VIEWER])
def audit(
    site: TheSite, project: str, before: int | None = None, most: Annotated[int, Query(ge=1, le=1000)] = 100
) -> list[AuditLine]:
    """What people did that changes what is asked or told, newest first."""
    return audit_lines(site, project, before, most)
