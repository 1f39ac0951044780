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
from myriant.flow import again, evidence, fleet, logs, queue, vault
from myriant.flow.people import Person
from myriant.flow.views import files_of, project_id, report_source

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
def record(site: TheSite, attempt: int) -> evidence.RecordView:
    """Phases, settings, machine and caches of an attempt."""
    return evidence.record(site, attempt)


@router.get("/attempts/{attempt}/machine-difference")
def machine_difference(site: TheSite, attempt: int, other: int | None = None) -> evidence.MachineDifference | None:
    """What differs from another attempt's machine, by default the newest passing one of the same cell before.

    Nothing when there is none to compare with.
    """
    return evidence.machine_difference(site, attempt, other)


@router.get("/projects/{project}/runs/{number}/timeline")
def timeline(site: TheSite, project: str, number: int) -> evidence.Timeline:
    """What each cell of a run did when."""
    return evidence.timeline(site, project, number)


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
    count: Annotated[int, Query(ge=0, le=logs.MOST_LINES)] = 500,
) -> logs.LogLines:
    """Lines of a log, with its size so far."""
    return logs.log_lines(site, attempt, first, count)


@router.get("/attempts/{attempt}/log/search")
def search_log(site: TheSite, attempt: int, text: Annotated[str, Query(min_length=1, max_length=500)]) -> logs.Hits:
    return logs.search(site, attempt, text)


@router.get("/attempts/{attempt}/log/usual")
def usual_lines(site: TheSite, attempt: int) -> logs.Usual:
    """Which lines passing attempts print too, where the steps begin, and the first line that speaks of trouble."""
    return logs.usual(site, attempt)


@router.get("/queue")
def the_queue(site: TheSite) -> queue.Queue:
    """What waits on the whole server, why, and when it is predicted to start."""
    return queue.queue(site)


@router.get("/runners")
def runners(site: TheSite) -> list[fleet.RunnerView]:
    return fleet.runners(site)


class Drain(BaseModel):
    reason: str = Field("", max_length=400)


@router.post("/runners/{name}/drain", status_code=204)
def drain(site: TheSite, who: ThePerson, name: str, wish: Drain) -> None:
    """Give a runner nothing more; what it has goes on."""
    _may(who, "maintainer", "drain a runner")
    fleet.drain(site, name, f"drained by {who.name}" + (f": {wish.reason}" if wish.reason else ""))


@router.post("/runners/{name}/resume", status_code=204)
def resume(site: TheSite, who: ThePerson, name: str) -> None:
    _may(who, "maintainer", "resume a runner")
    fleet.drain(site, name, "")


@router.delete("/runners/{name}", status_code=204)
def forget_runner(site: TheSite, who: ThePerson, name: str) -> None:
    """Take a runner that is gone off the list."""
    _may(who, "maintainer", "take a runner off the list")
    fleet.forget_runner(site, name)


class NewSecret(BaseModel):
    value: str = Field(max_length=200_000)
    jobs: list[str] = Field([], max_length=100)
    events: list[str] = Field([], max_length=10)
    branches: list[str] = Field([], max_length=100)


@router.get("/projects/{project}/secrets")
def secrets(site: TheSite, project: str) -> list[vault.SecretView]:
    """The secrets of a project by name; no value is ever shown."""
    return vault.secrets_of(site, project)


@router.put("/projects/{project}/secrets/{name}", status_code=204)
def set_secret(site: TheSite, who: ThePerson, project: str, name: str, wish: NewSecret) -> None:
    _may(who, "maintainer", "set a secret")
    vault.set_secret(site, project, name, wish.value, who, jobs=wish.jobs, events=wish.events, branches=wish.branches)


@router.delete("/projects/{project}/secrets/{name}", status_code=204)
def remove_secret(site: TheSite, who: ThePerson, project: str, name: str) -> None:
    _may(who, "maintainer", "remove a secret")
    vault.remove_secret(site, project, name)


@router.get("/projects/{project}/caches")
def caches(site: TheSite, project: str) -> list[evidence.CacheLine]:
    return evidence.caches_of(site, project)


class Forgotten(BaseModel):
    caches: int


@router.delete("/projects/{project}/caches")
def forget_caches(site: TheSite, who: ThePerson, project: str, entry: int | None = None) -> Forgotten:
    """Forget one cache, or all of a project."""
    _may(who, "member", "forget caches")
    return Forgotten(caches=evidence.forget_caches(site, project, entry))


class Again(BaseModel):
    which: Annotated[str, Field(pattern="^(all|not-passed|chosen)$")] = "all"
    cells: str = Field("", max_length=20_000)


class Begun(BaseModel):
    cells: int


@router.post("/projects/{project}/runs/{number}/again")
def run_again(site: TheSite, who: ThePerson, project: str, number: int, wish: Again) -> Begun:
    """Give cells of a run another attempt: all, those that did not pass, or those of a selector."""
    _may(who, "member", "run cells again")
    return Begun(cells=again.run_again(site, project, number, wish.which, wish.cells, who))


@router.get("/projects/{project}/source/info/refs", include_in_schema=False)
async def source_refs(site: TheSite, request: Request, project: str, service: str) -> StreamingResponse:
    """The project's mirror, for fetching a commit to one's own machine."""
    if service != "git-upload-pack":
        raise HTTPException(403, "the source is for fetching only")
    return refs_answer(site, await run_in_threadpool(project_id, site, project), request)


@router.post("/projects/{project}/source/git-upload-pack", include_in_schema=False)
async def source_pack(site: TheSite, request: Request, project: str) -> StreamingResponse:
    return await pack_answer(site, await run_in_threadpool(project_id, site, project), request)
