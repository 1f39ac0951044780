"""Routes for people about execution: evidence of attempts, logs, the queue, runners, secrets, caches, running again."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, HTTPException, Query, Request, Response
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from myriant.api.access import ThePerson, TheSite, person
from myriant.api.packs import pack_answer, refs_answer
from myriant.api.zips import zipped
from myriant.flow.ask.attempt import files_of, report_source
from myriant.flow.ask.caches import CacheLine, caches_of
from myriant.flow.ask.log import MOST_LINES, Hits, LogLines, Usual
from myriant.flow.ask.log import log_lines as _log_lines
from myriant.flow.ask.log import search_log as _search_log
from myriant.flow.ask.log import usual_lines as _usual_lines
from myriant.flow.ask.machine import MachineDifference
from myriant.flow.ask.machine import machine_difference as _machine_difference
from myriant.flow.ask.projects import project_id
from myriant.flow.ask.queue import Queue, whole_queue
from myriant.flow.ask.record import RecordView
from myriant.flow.ask.record import record as _record
from myriant.flow.ask.runners import RunnerView
from myriant.flow.ask.runners import runners as _runners
from myriant.flow.ask.timeline import Timeline
from myriant.flow.ask.timeline import timeline as _timeline
from myriant.flow.control.again import run_again as _run_again
from myriant.flow.dispatch.fleet import drain as _drain
from myriant.flow.dispatch.fleet import forget_runner as _forget_runner
from myriant.flow.keep.caches import forget_caches as _forget_caches
from myriant.flow.keep.secrets import SecretView, secrets_of
from myriant.flow.keep.secrets import remove_secret as _remove_secret
from myriant.flow.keep.secrets import set_secret as _set_secret
from myriant.flow.who import Person

VIEWED = {
    "html": "text/html; charset=utf-8", "htm": "text/html; charset=utf-8", "png": "image/png", "jpg": "image/jpeg",
    "jpeg": "image/jpeg", "gif": "image/gif", "webp": "image/webp", "svg": "image/svg+xml",
}  # fmt: skip
_ISOLATED = {
    "Content-Security-Policy": "sandbox; default-src 'none'; img-src data:; style-src 'unsafe-inline'; "
    "font-src data:; frame-ancestors 'self'",
    "X-Content-Type-Options": "nosniff",
    "Cache-Control": "private",
}
router = APIRouter(dependencies=[Depends(person)])


def _may(who: Person, role: str, what: str) -> None:
    if not who.may(role):
        raise HTTPException(403, f"only a {role} can {what}")


@router.get("/attempts/{attempt}/record")
def record(site: TheSite, attempt: int) -> RecordView:
    """Phases, settings, machine and caches of an attempt."""
    return _record(site, attempt)


@router.get("/attempts/{attempt}/machine-difference")
def machine_difference(site: TheSite, attempt: int, other: int | None = None) -> MachineDifference | None:
    """What differs from another attempt's machine, by default the newest passing one of the same cell before.

    Nothing when there is none to compare with.
    """
    return _machine_difference(site, attempt, other)


@router.get("/projects/{project}/runs/{number}/timeline")
def timeline(site: TheSite, project: str, number: int) -> Timeline:
    """What each cell of a run did when."""
    return _timeline(site, project, number)


@router.get("/attempts/{attempt}/files", response_class=Response)
def all_files(site: TheSite, attempt: int) -> StreamingResponse:
    """Every file that an attempt delivered, as one ZIP archive."""
    headers = {"Content-Disposition": f'attachment; filename="attempt-{attempt}.zip"'}
    files = [(path, site.blobs.chunks(blob)) for blob, path in files_of(site, attempt)]
    return StreamingResponse(zipped(files), media_type="application/zip", headers=headers)


@router.get("/reports/{report}/view", response_class=Response)
def view_report(site: TheSite, report: int) -> StreamingResponse:
    """A file for looking at in a frame: it may draw, but neither run programs nor reach anything."""
    blob, name = report_source(site, report)
    kind = VIEWED.get(name.rsplit(".", 1)[-1].lower(), "text/plain; charset=utf-8")
    return StreamingResponse(site.blobs.chunks(blob), media_type=kind, headers=_ISOLATED)


@router.get("/attempts/{attempt}/log/lines")
def log_lines(
    site: TheSite,
    attempt: int,
    first: Annotated[int, Query(ge=1)] = 1,
    count: Annotated[int, Query(ge=0, le=MOST_LINES)] = 500,
) -> LogLines:
    """Lines of a log, with its size so far."""
    return _log_lines(site, attempt, first, count)


@router.get("/attempts/{attempt}/log/search")
def search_log(site: TheSite, attempt: int, text: Annotated[str, Query(min_length=1, max_length=500)]) -> Hits:
    return _search_log(site, attempt, text)


@router.get("/attempts/{attempt}/log/usual")
def usual_lines(site: TheSite, attempt: int) -> Usual:
    """Which lines passing attempts print too, where the steps begin, and the first line that speaks of trouble."""
    return _usual_lines(site, attempt)


@router.get("/queue")
def the_queue(site: TheSite) -> Queue:
    """What waits on the whole server, why, and when it is predicted to start."""
    return whole_queue(site)


@router.get("/runners")
def runners(site: TheSite) -> list[RunnerView]:
    return _runners(site)


class Drain(BaseModel):
    reason: str = Field("", max_length=400)


@router.post("/runners/{name}/drain", status_code=204)
def drain(site: TheSite, who: ThePerson, name: str, wish: Drain) -> None:
    """Give a runner nothing more; what it has goes on."""
    _may(who, "maintainer", "drain a runner")
    _drain(site, name, f"drained by {who.name}" + (f": {wish.reason}" if wish.reason else ""))


@router.post("/runners/{name}/resume", status_code=204)
def resume(site: TheSite, who: ThePerson, name: str) -> None:
    _may(who, "maintainer", "resume a runner")
    _drain(site, name, "")


@router.delete("/runners/{name}", status_code=204)
def forget_runner(site: TheSite, who: ThePerson, name: str) -> None:
    """Take a runner that is gone off the list."""
    _may(who, "maintainer", "take a runner off the list")
    _forget_runner(site, name)


class NewSecret(BaseModel):
    value: str = Field(max_length=200_000)
    jobs: list[str] = Field([], max_length=100)
    events: list[str] = Field([], max_length=10)
    branches: list[str] = Field([], max_length=100)


@router.get("/projects/{project}/secrets")
def secrets(site: TheSite, project: str) -> list[SecretView]:
    """The secrets of a project by name; no value is ever shown."""
    return secrets_of(site, project)


@router.put("/projects/{project}/secrets/{name}", status_code=204)
def set_secret(site: TheSite, who: ThePerson, project: str, name: str, wish: NewSecret) -> None:
    _may(who, "maintainer", "set a secret")
    _set_secret(site, project, name, wish.value, who, jobs=wish.jobs, events=wish.events, branches=wish.branches)


@router.delete("/projects/{project}/secrets/{name}", status_code=204)
def remove_secret(site: TheSite, who: ThePerson, project: str, name: str) -> None:
    _may(who, "maintainer", "remove a secret")
    _remove_secret(site, project, name)


@router.get("/projects/{project}/caches")
def caches(site: TheSite, project: str) -> list[CacheLine]:
    return caches_of(site, project)


class Forgotten(BaseModel):
    caches: int


@router.delete("/projects/{project}/caches")
def forget_caches(site: TheSite, who: ThePerson, project: str, entry: int | None = None) -> Forgotten:
    """Forget one cache, or all of a project."""
    _may(who, "member", "forget caches")
    return Forgotten(caches=_forget_caches(site, project, entry))


class Again(BaseModel):
    which: Annotated[str, Field(pattern="^(all|not-passed|chosen)$")] = "all"
    cells: str = Field("", max_length=20_000)


class Begun(BaseModel):
    cells: int


@router.post("/projects/{project}/runs/{number}/again")
def run_again(site: TheSite, who: ThePerson, project: str, number: int, wish: Again) -> Begun:
    """Give cells of a run another attempt: all, those that did not pass, or those of a selector."""
    _may(who, "member", "run cells again")
    return Begun(cells=_run_again(site, project, number, wish.which, wish.cells, who))


@router.get("/projects/{project}/source/info/refs", include_in_schema=False)
async def source_refs(site: TheSite, request: Request, project: str, service: str) -> StreamingResponse:
    """The project's mirror, for fetching a commit to one's own machine."""
    if service != "git-upload-pack":
        raise HTTPException(403, "the source is for fetching only")
    return refs_answer(site, await run_in_threadpool(project_id, site, project), request)


@router.post("/projects/{project}/source/git-upload-pack", include_in_schema=False)
async def source_pack(site: TheSite, request: Request, project: str) -> StreamingResponse:
    return await pack_answer(site, await run_in_threadpool(project_id, site, project), request)
