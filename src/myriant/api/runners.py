"""Runners and the queue, for people."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path
from pydantic import BaseModel, Field

from myriant.api.access import ADMIN, MAINTAINER, VIEWER, ThePerson, TheSite
from myriant.flow.admin.passes import RunnerPass, all_passes, end_pass, give_pass
from myriant.flow.dispatch.fleet import drain as _drain
from myriant.flow.dispatch.fleet import forget_runner as _forget_runner
from myriant.flow.views.desk.page import load_now
from myriant.flow.views.runners.page import RunnerView
from myriant.flow.views.runners.page import runners as _runners
from myriant.flow.views.runners.queue import Load, Queue, whole_queue
from myriant.flow.views.runners.sizes import Sizes, sizes_of
from myriant.wire.runners import RUNNER_NAME

router = APIRouter()


class NewPass(BaseModel):
    projects: list[str] | None = Field(None, max_length=1000)  # whose cells it is given; left out: all


class GivenPass(BaseModel):
    token: str  # shown this once
    command: str  # that starts the runner


class Drain(BaseModel):
    reason: str = Field("", max_length=400)


@router.get("/pulse", dependencies=[VIEWER])
def pulse(site: TheSite) -> Load:
    return load_now(site)


@router.get("/queue", dependencies=[VIEWER])
def the_queue(site: TheSite) -> Queue:
    """What waits on the whole server, why, and when it is predicted to start."""
    return whole_queue(site)


@router.get("/sizes", dependencies=[MAINTAINER])
def sizes(site: TheSite) -> Sizes:
    """How large the database and the kept files are, and how fast they grow."""
    return sizes_of(site)


@router.get("/runners", dependencies=[VIEWER])
def runners(site: TheSite) -> list[RunnerView]:
    return _runners(site)


@router.get("/runner-tokens", dependencies=[ADMIN])
def runner_tokens(site: TheSite) -> list[RunnerPass]:
    """Runners with a token of their own, and what they are for; no token is shown."""
    return all_passes(site)


@router.put("/runner-tokens/{name}", dependencies=[ADMIN])
def give_runner_token(site: TheSite, name: Annotated[str, Path(pattern=RUNNER_NAME)], wish: NewPass) -> GivenPass:
    """A token that only a runner of this name can use, in place of the one it had."""
    token = give_pass(site, name, wish.projects)
    command = f"MYRIANT_RUNNER_TOKEN={token} myriant runner --server {site.address} --name {name}"
    return GivenPass(token=token, command=command)


@router.delete("/runner-tokens/{name}", status_code=204, dependencies=[ADMIN])
def end_runner_token(site: TheSite, name: str) -> None:
    """Take a runner's token back, and what it runs with it."""
    end_pass(site, name)


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
