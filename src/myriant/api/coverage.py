"""Coverage of a run: of its change, by file, by line, and as files."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, HTTPException, Query, Response

from myriant.api.access import VIEWER, TheSite
from myriant.flow.ask.coverage import CoverageOfFile, CoverageOfRun
from myriant.flow.ask.coverage import coverage_as as _coverage_as
from myriant.flow.ask.coverage import coverage_of_file as _coverage_of_file
from myriant.flow.ask.coverage import coverage_of_run as _coverage_of_run

router = APIRouter()
AJob = Annotated[str, Query(max_length=200)]
_TYPES = {"lcov": "text/plain; charset=utf-8", "csv": "text/csv; charset=utf-8"}


@router.get("/projects/{project}/runs/{number}/coverage", dependencies=[VIEWER])
def coverage(site: TheSite, project: str, number: int, job: AJob = "") -> CoverageOfRun:
    """What the change left uncovered, what is reached no more, every file; of one job, or merged over all."""
    return _coverage_of_run(site, project, number, job)


@router.get("/projects/{project}/runs/{number}/coverage/file", dependencies=[VIEWER])
def coverage_of_file(
    site: TheSite, project: str, number: int, path: Annotated[str, Query(max_length=4000)], job: AJob = ""
) -> CoverageOfFile:
    """One file, line by line, with the cells that reach what only some of them do."""
    return _coverage_of_file(site, project, number, path, job)


@router.get("/projects/{project}/runs/{number}/coverage.{form}", response_class=Response, dependencies=[VIEWER])
def export_coverage(site: TheSite, project: str, number: int, form: str, job: AJob = "") -> Response:
    """The merged coverage as an LCOV tracefile (lcov) or by file as CSV (csv)."""
    if form not in _TYPES:
        raise HTTPException(404, f"coverage is given as {' or '.join(_TYPES)}")
    text = _coverage_as(site, project, number, form, job)
    headers = {"Content-Disposition": f'attachment; filename="coverage-{number}.{"info" if form == "lcov" else form}"'}
    return Response(text, media_type=_TYPES[form], headers=headers)
