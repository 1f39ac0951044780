"""Routes of the workbench and of events: plans before they are committed, and what is told from outside."""

from __future__ import annotations

import json
from typing import Any

from fastapi import APIRouter, Depends, HTTPException, Request
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from myriant.api.access import ThePerson, TheSite, person
from myriant.core.plan.change import PIECES, insert_piece, set_value
from myriant.core.plan.format import format_plan
from myriant.core.plan.keys import EVENT_KEYS, EVENTS, MEASURES, TABLES
from myriant.core.plan.reference import takes
from myriant.core.plan.schedule import zone_names
from myriant.flow.ask.coming import Coming
from myriant.flow.ask.coming import coming as _coming
from myriant.flow.ask.workbench.meaning import Meaning
from myriant.flow.ask.workbench.meaning import meaning as _meaning
from myriant.flow.ask.workbench.proposals import Looked, Proposals, offers_now, proposals_for
from myriant.flow.ask.workbench.proposals import look_at_repository as _look_at_repository
from myriant.flow.ask.workbench.rehearsal import WantedEvent
from myriant.flow.ask.workbench.standing import Standing, standing_plan
from myriant.flow.control.approvals import give_word
from myriant.flow.control.stopping import stop_run
from myriant.flow.intake.by_hand import start_by_hand
from myriant.flow.intake.pulls import change_pull_request
from myriant.flow.intake.starting import Taken
from myriant.flow.intake.told import event_secret as _event_secret
from myriant.flow.intake.told import is_signed, take_event
from myriant.flow.keep.plans import Saved, keep_plan, save_plan
from myriant.flow.who import Person

router = APIRouter(dependencies=[Depends(person)])
told = APIRouter()
_MOST_EVENT = 1 << 20


class PlanText(BaseModel):
    text: str = Field(max_length=2_000_000)


class PlanToLook(PlanText):
    event: WantedEvent | None = None


class PlanToSave(PlanText):
    branch: str = Field(max_length=500)
    message: str = Field("", max_length=10_000)
    start: bool = True
    expected: str | None = Field(None, max_length=64)


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


class ByHand(BaseModel):
    ref: str = Field("", max_length=500)
    jobs: list[str] = Field([], max_length=64)
    cells: str = Field("", max_length=2000)


class Word(BaseModel):
    given: bool


class PullRequestTold(BaseModel):
    source: str | None = Field(None, max_length=500)
    target: str | None = Field(None, max_length=500)
    title: str = Field("", max_length=500)
    author: str = Field("", max_length=200)
    state: str = Field("open", pattern="^(open|merged|closed)$")


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


class Secret(BaseModel):
    secret: str


def member(who: Person) -> None:
    if not who.may("member"):
        raise HTTPException(403, "only a member can do this")


@router.get("/plan/words")
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


@router.post("/plan/format")
def formatted(plan: PlanText) -> PlanText:
    """The same plan, evenly written."""
    return PlanText(text=format_plan(plan.text))


@router.post("/plan/change")
def changed(plan: PlanToChange) -> PlanText:
    """The text with a value set at a path, or taken out (null)."""
    try:
        return PlanText(text=set_value(plan.text, tuple(plan.path), plan.value))
    except ValueError as error:
        raise HTTPException(422, str(error)) from error


@router.post("/plan/insert")
def extended(plan: PlanToExtend) -> Extended:
    """The text with a piece put where it belongs, and the line where it stands."""
    text, line = insert_piece(plan.text, plan.piece, plan.line)
    return Extended(text=text, line=line)


@router.post("/repositories/look")
def look_at_repository(site: TheSite, who: ThePerson, wish: Repository) -> Looked:
    """Try whether a repository can be read, before it is added."""
    if not who.may("admin"):
        raise HTTPException(403, "only an admin can add projects")
    return _look_at_repository(site, wish.address)


@router.get("/projects/{project}/plan")
def standing(site: TheSite, project: str, branch: str | None = None) -> Standing:
    return standing_plan(site, project, branch)


@router.post("/projects/{project}/plan/meaning")
def meaning(site: TheSite, project: str, plan: PlanToLook) -> Meaning:
    """What a text would mean as the project's plan, for an event."""
    return _meaning(site, project, plan.text, plan.event)


@router.post("/projects/{project}/plan/commits", status_code=201)
def save(site: TheSite, who: ThePerson, project: str, plan: PlanToSave) -> Saved:
    """Commit a plan to a branch."""
    member(who)
    return save_plan(
        site, project, who, text=plan.text, branch=plan.branch, message=plan.message, start=plan.start,
        expected=plan.expected,
    )  # fmt: skip


@router.put("/projects/{project}/plan", status_code=204)
def keep(site: TheSite, who: ThePerson, project: str, plan: PlanText) -> None:
    """Keep a plan on the server, for a repository that has none."""
    member(who)
    keep_plan(site, project, who, plan.text)


@router.delete("/projects/{project}/plan", status_code=204)
def forget(site: TheSite, who: ThePerson, project: str) -> None:
    member(who)
    keep_plan(site, project, who, None)


@router.get("/projects/{project}/proposals")
def proposals(site: TheSite, project: str, branch: str | None = None) -> Proposals:
    return proposals_for(site, project, branch)


@router.get("/projects/{project}/coming")
def coming(site: TheSite, project: str) -> Coming:
    """How the project hears of events, its schedules and pull requests, and what the next push runs."""
    return _coming(site, project)


@router.post("/projects/{project}/runs", status_code=201)
def start(site: TheSite, who: ThePerson, project: str, wish: ByHand) -> Taken:
    """Start a run by hand: a branch, tag or commit, all jobs or some, all cells or some."""
    member(who)
    return start_by_hand(site, project, ref=wish.ref, jobs=wish.jobs, cells=wish.cells, by=who.name)


class Stopped(BaseModel):
    cells: int


@router.post("/projects/{project}/runs/{number}/stop")
def stop(site: TheSite, who: ThePerson, project: str, number: int) -> Stopped:
    """End what of a run still waits or runs."""
    member(who)
    return Stopped(cells=stop_run(site, project, number, who))


@router.post("/projects/{project}/runs/{number}/approvals/{job}", status_code=204)
def approve(site: TheSite, who: ThePerson, project: str, number: int, job: str, word: Word) -> None:
    member(who)
    give_word(site, project, number, job, who, given=word.given)


@router.put("/projects/{project}/pull-requests/{number}")
def pull_request(site: TheSite, who: ThePerson, project: str, number: int, wish: PullRequestTold) -> Taken:
    """Open, update or end a pull request by hand."""
    member(who)
    return change_pull_request(site, project, number, **wish.model_dump())


@router.post("/projects/{project}/event-secret")
def event_secret(site: TheSite, who: ThePerson, project: str) -> Secret:
    """The secret with which events told over HTTP are signed."""
    if not who.may("maintainer"):
        raise HTTPException(403, "only a maintainer can see the secret")
    return Secret(secret=_event_secret(site, project))


@told.post("/events", responses={401: {}})
async def event(site: TheSite, request: Request, project: str) -> Taken:
    """A CloudEvent 1.0 (structured JSON) with a CDEvents type.

    `X-Myriant-Signature: sha256=HMAC` over the body is made with the project's event secret.
    """
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > _MOST_EVENT:
            raise HTTPException(413, "an event may have 1 MiB at most")
    signature = request.headers.get("x-myriant-signature", "")
    if not await run_in_threadpool(is_signed, site, project, bytes(body), signature):
        raise HTTPException(401, "the event's signature is not that of this project's secret")
    try:
        content: Any = json.loads(body)
    except (ValueError, RecursionError) as error:
        raise HTTPException(400, f"the event is not JSON: {error}") from error
    if not isinstance(content, dict):
        raise HTTPException(400, "the event is not a JSON object")
    return await run_in_threadpool(take_event, site, project, content)
