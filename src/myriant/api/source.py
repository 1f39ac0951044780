"""The repository at a commit, for looking at and for fetching."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, HTTPException, Query, Request
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from myriant.api.access import VIEWER, TheSite
from myriant.api.packs import pack_answer, refs_answer
from myriant.flow.views.desk.projects import project_id
from myriant.flow.views.evidence.source import SourceFile, files_named
from myriant.flow.views.evidence.source import file_at as _file_at
from myriant.flow.views.run.change import Difference, difference_of

router = APIRouter()


@router.get("/projects/{project}/source/info/refs", include_in_schema=False, dependencies=[VIEWER])
async def source_refs(site: TheSite, request: Request, project: str, service: str) -> StreamingResponse:
    """The project's mirror, for fetching a commit to one's own machine."""
    if service != "git-upload-pack":
        raise HTTPException(403, "the source is for fetching only")
    return refs_answer(site, await run_in_threadpool(project_id, site, project), request)


@router.post("/projects/{project}/source/git-upload-pack", include_in_schema=False, dependencies=[VIEWER])
async def source_pack(site: TheSite, request: Request, project: str) -> StreamingResponse:
    return await pack_answer(site, await run_in_threadpool(project_id, site, project), request)


@router.get("/projects/{project}/file", dependencies=[VIEWER])
def file_at(
    site: TheSite,
    project: str,
    commit: Annotated[str, Query(max_length=64)],
    path: Annotated[str, Query(max_length=4000)],
) -> SourceFile:
    """A file of the repository at a commit."""
    return _file_at(site, project, commit, path)


@router.get("/projects/{project}/runs/{number}/difference", dependencies=[VIEWER])
def difference(site: TheSite, project: str, number: int, base: int | None = None) -> Difference:
    """The files and lines that changed since a run's baseline."""
    return difference_of(site, project, number, base)


@router.get("/projects/{project}/files", dependencies=[VIEWER])
def files(
    site: TheSite,
    project: str,
    commit: Annotated[str, Query(max_length=64)],
    search: Annotated[str, Query(max_length=200)] = "",
) -> list[str]:
    """Paths at a commit that hold a text."""
    return files_named(site, project, commit, search)
