"""Plans before they are committed, and what is to come."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, HTTPException
from pydantic import BaseModel, Field

from myriant.api.access import ADMIN, MEMBER, VIEWER, ThePerson, TheSite
from myriant.core.plan.change import PIECES, insert_piece, set_value
from myriant.core.plan.format import format_plan
from myriant.core.plan.keys import EVENT_KEYS, EVENTS, MEASURES, TABLES
from myriant.core.plan.reference import takes
from myriant.core.plan.schedule import zone_names
from myriant.flow.admin.plans import Saved, keep_plan, save_plan
from myriant.flow.standing_plan import Standing, standing_plan
from myriant.flow.views.plan.coming import Coming
from myriant.flow.views.plan.coming import coming as _coming
from myriant.flow.views.plan.meaning import Meaning
from myriant.flow.views.plan.meaning import meaning as _meaning
from myriant.flow.views.plan.proposals import Looked, Proposals, offers_now, proposals_for
from myriant.flow.views.plan.proposals import look_at_repository as _look_at_repository
from myriant.flow.views.plan.rehearsal import WantedEvent
from myriant.flow.views.plan.replay import MOST_RUNS, Replay, replay_of

router = APIRouter()


class PlanText(BaseModel):
    text: str = Field(max_length=2_000_000)


class PlanToLook(PlanText):
    event: WantedEvent | None = None


class PlanToSave(PlanText):
    branch: str = Field(max_length=500)
    message: str = Field("", max_length=10_000)
    start: bool = True
    expected: str | None = Field(None, max_length=64)
    ask: bool = False  # for it to be merged: a pull request


class PlanToReplay(PlanText):
    branch: str | None = Field(None, max_length=500)
    runs: int = Field(100, ge=1, le=MOST_RUNS)


class PlanToChange(PlanText):
    path: list[str | int] = Field(min_length=1, max_length=12)
    value: Any = None


class PlanToExtend(PlanText):
    piece: str = Field(max_length=60)
    line: int = Field(ge=1)


class Extended(PlanText):
    line: int


class PieceTold(BaseModel):
    name: str
    says: str
    where: str


class Repository(BaseModel):
    address: str = Field(min_length=1, max_length=2000)


class KeyTold(BaseModel):
    key: str
    takes: str
    doc: str
    example: str
    of: str
    needed: bool


class PlanWords(BaseModel):
    """The words of the plan format, for completion and hover help."""

    tables: dict[str, list[KeyTold]]
    measures: dict[str, str]
    events: list[str]
    event_keys: list[str]
    zones: list[str]
    offers: list[str]
    pieces: list[PieceTold]


@router.get("/plan/words", dependencies=[VIEWER])
def words(site: TheSite) -> PlanWords:
    return PlanWords(
        tables={
            kind: [
                KeyTold(key=k, takes=takes(s), doc=s.doc, example=s.example, of=s.kind, needed=s.needed)
                for k, s in keys.items()
            ]
            for kind, keys in TABLES.items()
        },
        measures=MEASURES,
        events=list(EVENTS),
        event_keys=list(EVENT_KEYS),
        zones=list(zone_names()),
        offers=offers_now(site),
        pieces=[PieceTold(name=p.name, says=p.says, where=p.where) for p in PIECES],
    )


@router.post("/plan/format", dependencies=[VIEWER])
def formatted(plan: PlanText) -> PlanText:
    """The same plan, evenly written."""
    return PlanText(text=format_plan(plan.text))


@router.post("/plan/change", dependencies=[VIEWER])
def changed(plan: PlanToChange) -> PlanText:
    """The text with a value set at a path, or taken out (null)."""
    try:
        return PlanText(text=set_value(plan.text, tuple(plan.path), plan.value))
    except ValueError as error:
        raise HTTPException(422, str(error)) from error


@router.post("/plan/insert", dependencies=[VIEWER])
def extended(plan: PlanToExtend) -> Extended:
    """The text with a piece put where it belongs, and the line where it stands."""
    text, line = insert_piece(plan.text, plan.piece, plan.line)
    return Extended(text=text, line=line)


@router.post("/repositories/look", dependencies=[ADMIN])
def look_at_repository(site: TheSite, wish: Repository) -> Looked:
    """Try whether a repository can be read, before it is added."""
    return _look_at_repository(site, wish.address)


@router.get("/projects/{project}/plan", dependencies=[VIEWER])
def standing(site: TheSite, project: str, branch: str | None = None) -> Standing:
    return standing_plan(site, project, branch)


@router.post("/projects/{project}/plan/meaning", dependencies=[VIEWER])
def meaning(site: TheSite, project: str, plan: PlanToLook) -> Meaning:
    """What a text would mean as the project's plan, for an event."""
    return _meaning(site, project, plan.text, plan.event)


@router.post("/projects/{project}/plan/replay", dependencies=[VIEWER])
def replay(site: TheSite, project: str, plan: PlanToReplay) -> Replay:
    """What the rules of a text would have held among the newest runs of a branch."""
    return replay_of(site, project, plan.text, plan.branch, plan.runs)


@router.post("/projects/{project}/plan/commits", status_code=201, dependencies=[MEMBER])
def save(site: TheSite, who: ThePerson, project: str, plan: PlanToSave) -> Saved:
    """Commit a plan to a branch."""
    return save_plan(
        site,
        project,
        who,
        text=plan.text,
        branch=plan.branch,
        message=plan.message,
        start=plan.start,
        expected=plan.expected,
        ask=plan.ask,
    )


@router.put("/projects/{project}/plan", status_code=204, dependencies=[MEMBER])
def keep(site: TheSite, who: ThePerson, project: str, plan: PlanText) -> None:
    """Keep a plan on the server, for a repository that has none."""
    keep_plan(site, project, who, plan.text)


@router.delete("/projects/{project}/plan", status_code=204, dependencies=[MEMBER])
def forget(site: TheSite, who: ThePerson, project: str) -> None:
    keep_plan(site, project, who, None)


@router.get("/projects/{project}/proposals", dependencies=[VIEWER])
def proposals(site: TheSite, project: str, branch: str | None = None) -> Proposals:
    return proposals_for(site, project, branch)


@router.get("/projects/{project}/coming", dependencies=[VIEWER])
def coming(site: TheSite, project: str) -> Coming:
    """How the project hears of events, its schedules and pull requests, and what the next push runs."""
    return _coming(site, project)
