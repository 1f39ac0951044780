"""Runners and the queue, for people."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from myriant.api.access import MAINTAINER, VIEWER, ThePerson, TheSite
from myriant.flow.ask.desk import load_now
from myriant.flow.ask.queue import Load, Queue, whole_queue
from myriant.flow.ask.runners import RunnerView
from myriant.flow.ask.runners import runners as _runners
from myriant.flow.dispatch.fleet import drain as _drain
from myriant.flow.dispatch.fleet import forget_runner as _forget_runner

router = APIRouter()


class Drain(BaseModel):
    reason: str = Field("", max_length=400)


@router.get("/pulse", dependencies=[VIEWER])
def pulse(site: TheSite) -> Load:
    return load_now(site)


@router.get("/queue", dependencies=[VIEWER])
def the_queue(site: TheSite) -> Queue:
    """What waits on the whole server, why, and when it is predicted to start."""
    return whole_queue(site)


@router.get("/runners", dependencies=[VIEWER])
def runners(site: TheSite) -> list[RunnerView]:
    return _runners(site)


@router.post("/runners/{name}/drain", status_code=204, dependencies=[MAINTAINER])
def drain(site: TheSite, who: ThePerson, name: str, wish: Drain) -> None:
    """Give a runner nothing more; what it has goes on."""
    _drain(site, name, f"drained by {who.name}" + (f": {wish.reason}" if wish.reason else ""))


@router.post("/runners/{name}/resume", status_code=204, dependencies=[MAINTAINER])
def resume(site: TheSite, name: str) -> None:
    _drain(site, name, "")


@router.delete("/runners/{name}", status_code=204, dependencies=[MAINTAINER])
def forget_runner(site: TheSite, name: str) -> None:
    """Take a runner that is gone off the list."""
    _forget_runner(site, name)
