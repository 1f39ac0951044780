"""Coverage of a run: of its change, by file, by line, and as files."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, HTTPException, Query, Response

from myriant.api.access import VIEWER, TheSite
from myriant.flow.views.coverage.page import CoverageByCell, CoverageOfFile, CoverageOfRun
from myriant.flow.views.coverage.page import coverage_as as _coverage_as
from myriant.flow.views.coverage.page import coverage_by_cell as _coverage_by_cell
from myriant.flow.views.coverage.page import coverage_of_file as _coverage_of_file
from myriant.flow.views.coverage.page import coverage_of_run as _coverage_of_run
from myriant.flow.views.coverage.trend import MOST_POINTS, CoverageTrend
from myriant.flow.views.coverage.trend import coverage_trend as _coverage_trend

router = APIRouter()
AJob = Annotated[str, Query(max_length=200)]
_TYPES = {
    "lcov": ("text/plain; charset=utf-8", "info"),
    "csv": ("text/csv; charset=utf-8", "csv"),
    "cobertura": ("application/xml; charset=utf-8", "xml"),
}


@router.get("/projects/{project}/runs/{number}/coverage", dependencies=[VIEWER])
def coverage(site: TheSite, project: str, number: int, job: AJob = "", base: int | None = None) -> CoverageOfRun:
    """What the change left uncovered, what is reached no more, every file; of one job, or merged over all.

    Against the gate baseline, or against run `base`.
    """
    return _coverage_of_run(site, project, number, job, base)


@router.get("/projects/{project}/coverage-trend", dependencies=[VIEWER])
def coverage_trend(
    site: TheSite,
    project: str,
    folder: Annotated[str, Query(max_length=4000)] = "",
    job: AJob = "",
    branch: Annotated[str | None, Query(max_length=500)] = None,
    most: Annotated[int, Query(ge=1, le=MOST_POINTS)] = 120,
) -> CoverageTrend:
    """How much of a folder the runs of a branch covered, the oldest first."""
    return _coverage_trend(site, project, folder, job, branch, most)


@router.get("/projects/{project}/runs/{number}/coverage/cells", dependencies=[VIEWER])
def coverage_by_cell(site: TheSite, project: str, number: int, job: AJob = "") -> CoverageByCell:
    """What each cell adds to what all of them cover, and how few reach as much."""
    return _coverage_by_cell(site, project, number, job)


@router.get("/projects/{project}/runs/{number}/coverage/file", dependencies=[VIEWER])
def coverage_of_file(
    site: TheSite,
    project: str,
    number: int,
    path: Annotated[str, Query(max_length=4000)],
    job: AJob = "",
    base: int | None = None,
) -> CoverageOfFile:
    """One file, line by line, with the cells that reach what only some of them do."""
    return _coverage_of_file(site, project, number, path, job, base)


@router.get("/projects/{project}/runs/{number}/coverage.{form}", response_class=Response, dependencies=[VIEWER])
def export_coverage(site: TheSite, project: str, number: int, form: str, job: AJob = "") -> Response:
    """The merged coverage as an LCOV tracefile (lcov), as Cobertura XML (cobertura), or by file as CSV (csv)."""
    if form not in _TYPES:
        raise HTTPException(404, f"coverage is given as {' or '.join(_TYPES)}")
    text = _coverage_as(site, project, number, form, job)
    media, ending = _TYPES[form]
    headers = {"Content-Disposition": f'attachment; filename="coverage-{number}.{ending}"'}
    return Response(text, media_type=media, headers=headers)
