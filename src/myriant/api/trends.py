"""Trends of a branch, the morning page, badges and feeds."""

from __future__ import annotations

import gzip
import hashlib
from dataclasses import asdict
from typing import Annotated
from urllib.parse import urlencode

from fastapi import APIRouter, Depends, Query, Request, Response
from pydantic import AwareDatetime, BaseModel, TypeAdapter

from myriant.api.access import MEMBER, OPEN, VIEWER, TheSite
from myriant.api.shortly import Shortly
from myriant.core.plan.matrix_change import CHANGES
from myriant.core.telling.badge import svg
from myriant.core.telling.morning import Morning, morning_text
from myriant.flow.admin.badges import badge_key as _badge_key
from myriant.flow.announce.printing import CannotPrint, printed
from myriant.flow.errors import Refused
from myriant.flow.site import Site
from myriant.flow.views.cost import Cost, cost_of, cost_table
from myriant.flow.views.feeds import Outcomes, atom_of, calendar_of
from myriant.flow.views.feeds import outcomes as _outcomes
from myriant.flow.views.morning import morning as _morning
from myriant.flow.views.rankings import MOST_RUNS as MOST_RANKED
from myriant.flow.views.rankings import Rankings, rankings_of
from myriant.flow.views.report.days import MOST_DAYS, Asked, BranchReport, report_of, report_with_lines
from myriant.flow.views.report.page import report_html
from myriant.flow.views.settings.badges import badge_of
from myriant.flow.views.trends.fewer import FewerCells, fewer_cells
from myriant.flow.views.trends.page import MOST_RUNS, Trends, trends_of, trends_parquet, trends_table
from myriant.flow.views.trends.versions import (
    MOST_COMPARED,
    TwoValues,
    Versions,
    WhatIf,
    two_values,
    versions_of,
    what_if,
)

router = APIRouter()
_ASKED_ANEW = {"Cache-Control": "no-cache", "X-Content-Type-Options": "nosniff"}
_Short = Annotated[str, Query(max_length=500)]


class BadgeKey(BaseModel):
    key: str


_TRENDS = TypeAdapter(Trends)
_MUCH = 64 << 10  # bytes


@router.get("/projects/{project}/trends", dependencies=[VIEWER], response_model=Trends)
def trends(
    site: TheSite,
    request: Request,
    project: str,
    branch: Annotated[str | None, Query(max_length=500)] = None,
    runs: Annotated[int, Query(ge=1, le=MOST_RUNS)] = 300,
) -> Response:
    """The newest decided runs of a branch as series, and where they changed."""
    # thousands of numbers of our own need not be looked at once more before they are written
    data = _TRENDS.dump_json(trends_of(site, project, branch, runs))
    headers = {"Vary": "Accept-Encoding"}
    if len(data) > _MUCH and "gzip" in request.headers.get("accept-encoding", ""):
        data, headers["Content-Encoding"] = gzip.compress(data, 1), "gzip"  # a third of the time for a fifth more
    return Response(data, media_type="application/json", headers=headers)


@router.get("/projects/{project}/morning", dependencies=[VIEWER])
def morning(
    site: TheSite, project: str, zone: Annotated[str, Query(max_length=100)] = "UTC", since: AwareDatetime | None = None
) -> Morning:
    """Whether the latest build may be used, and what happened since yesterday evening in a time zone."""
    return _morning(site, project, zone, since)


@router.get("/projects/{project}/morning.txt", response_class=Response, dependencies=[VIEWER])
def morning_as_text(
    site: TheSite, project: str, zone: Annotated[str, Query(max_length=100)] = "UTC", since: AwareDatetime | None = None
) -> Response:
    """The same as Markdown that reads well as plain text."""
    return Response(morning_text(_morning(site, project, zone, since)), media_type="text/plain; charset=utf-8")


@router.get("/projects/{project}/versions", dependencies=[VIEWER])
def versions(site: TheSite, project: str, runs: Annotated[int, Query(ge=1, le=MOST_COMPARED)] = 300) -> Versions:
    """What each version found that no other did, how it stands in the plan, and which ones are new."""
    return versions_of(site, project, runs)


@router.get("/projects/{project}/fewer", dependencies=[VIEWER])
def fewer(site: TheSite, project: str, runs: Annotated[int, Query(ge=1, le=MOST_COMPARED)] = 300) -> list[FewerCells]:
    """What fewer cells of each job would have found over the past of the main branch, and what they would take."""
    return fewer_cells(site, project, runs)


def _asked(
    days: Annotated[int, Query(ge=1, le=MOST_DAYS)] = 30,
    branch: Annotated[str | None, Query(max_length=500)] = None,
    beside: Annotated[str | None, Query(max_length=500)] = None,
    release: Annotated[str | None, Query(max_length=500)] = None,
) -> Asked:
    return Asked(days, branch, beside, release)


_Asked = Annotated[Asked, Depends(_asked)]


@router.get("/projects/{project}/report", dependencies=[VIEWER])
def report(site: TheSite, project: str, asked: _Asked) -> BranchReport:
    """The newest days of a branch beside as many before, or another branch; the way to a release beside another's."""
    return report_of(site, project, asked)


def _page(site: Site, project: str, asked: Asked) -> str:
    told, lines = report_with_lines(site, project, asked)
    wanted = {k: v for k, v in asdict(asked).items() if v is not None}
    return report_html(project, told, lines, f"{site.address}/p/{project}/report?{urlencode(wanted)}")


@router.get("/projects/{project}/report.html", response_class=Response, dependencies=[VIEWER])
def report_as_page(site: TheSite, project: str, asked: _Asked) -> Response:
    """The same as a page for print that needs nothing else."""
    headers = {"Content-Disposition": 'attachment; filename="report.html"', "X-Content-Type-Options": "nosniff"}
    return Response(_page(site, project, asked), media_type="text/html; charset=utf-8", headers=headers)


@router.get("/projects/{project}/report.pdf", response_class=Response, dependencies=[VIEWER])
def report_as_pdf(site: TheSite, project: str, asked: _Asked) -> Response:
    """The same as PDF, where the server's machine has Chromium."""
    page = _page(site, project, asked)
    try:
        data = printed(page, wait=1.0)  # those who wait keep others from being answered
    except CannotPrint as error:
        raise Refused(
            f"no PDF can be made: {error}", "try again, or print the report's page from your browser"
        ) from error
    headers = {"Content-Disposition": 'attachment; filename="report.pdf"', "X-Content-Type-Options": "nosniff"}
    return Response(data, media_type="application/pdf", headers=headers)


@router.get("/projects/{project}/versions/beside", dependencies=[VIEWER])
def version_beside(
    site: TheSite,
    project: str,
    job: Annotated[str, Query(max_length=200)],
    dimension: Annotated[str, Query(max_length=200)],
    one: Annotated[str, Query(max_length=200)],
    other: Annotated[str, Query(max_length=200)],
    runs: Annotated[int, Query(ge=1, le=MOST_COMPARED)] = 300,
) -> TwoValues:
    """Two values of a dimension beside each other: what each failed and took where the other ran too."""
    return two_values(site, project, job, dimension, one, other, runs)


@router.get("/projects/{project}/versions/what-if", dependencies=[VIEWER])
def version_what_if(
    site: TheSite,
    project: str,
    job: Annotated[str, Query(max_length=200)],
    dimension: Annotated[str, Query(max_length=200)],
    value: Annotated[str, Query(max_length=200)],
    change: Annotated[str, Query(pattern=f"^({'|'.join(CHANGES)})$")],
    runs: Annotated[int, Query(ge=1, le=MOST_COMPARED)] = 300,
) -> WhatIf:
    """What would have been missed with a value retired, advisory, binding or run at night only; and the plan's edit."""
    return what_if(site, project, job, dimension, value, change, runs)


@router.get("/projects/{project}/trends.csv", response_class=Response, dependencies=[VIEWER])
def trends_csv(
    site: TheSite,
    project: str,
    branch: Annotated[str | None, Query(max_length=500)] = None,
    runs: Annotated[int, Query(ge=1, le=MOST_RUNS)] = 300,
) -> Response:
    """The same series as CSV."""
    headers = {"Content-Disposition": 'attachment; filename="trends.csv"', "X-Content-Type-Options": "nosniff"}
    return Response(trends_table(site, project, branch, runs), media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/projects/{project}/trends.parquet", response_class=Response, dependencies=[VIEWER])
def trends_as_parquet(
    site: TheSite,
    project: str,
    branch: Annotated[str | None, Query(max_length=500)] = None,
    runs: Annotated[int, Query(ge=1, le=MOST_RUNS)] = 300,
) -> Response:
    """The same series as a Parquet file."""
    headers = {"Content-Disposition": 'attachment; filename="trends.parquet"', "X-Content-Type-Options": "nosniff"}
    return Response(
        trends_parquet(site, project, branch, runs), media_type="application/vnd.apache.parquet", headers=headers
    )


@router.get("/projects/{project}/rankings", dependencies=[VIEWER])
def rankings(
    site: TheSite,
    project: str,
    branch: Annotated[str | None, Query(max_length=500)] = None,
    runs: Annotated[int, Query(ge=1, le=MOST_RANKED)] = 200,
) -> Rankings:
    """Where effort would pay most: tests that hold runs, fail together or are slow; files whose changes break."""
    return rankings_of(site, project, branch, runs)


@router.get("/projects/{project}/cost", dependencies=[VIEWER])
def cost(site: TheSite, project: str) -> Cost:
    """What a project's runs cost, by day, event and class of machine, beside its budget."""
    return cost_of(site, project)


@router.get("/projects/{project}/cost.csv", response_class=Response, dependencies=[VIEWER])
def cost_csv(site: TheSite, project: str) -> Response:
    """The same by day, event and runner, as CSV."""
    headers = {"Content-Disposition": 'attachment; filename="cost.csv"', "X-Content-Type-Options": "nosniff"}
    return Response(cost_table(site, project), media_type="text/csv; charset=utf-8", headers=headers)


@router.get("/projects/{project}/outcomes", dependencies=[VIEWER])
def outcomes(
    site: TheSite,
    project: str,
    after: Annotated[int, Query(ge=0, le=2**62)] = 0,
    limit: Annotated[int, Query(ge=1, le=1000)] = 200,
) -> Outcomes:
    """What was said of runs after a cursor, the oldest first, as CloudEvents."""
    return _outcomes(site, project, after, limit)


@router.get("/feeds/{key}.atom", response_class=Response, dependencies=[OPEN])
def feed(site: TheSite, key: str, branch: _Short = "", every: bool = False) -> Response:
    """The newest outcomes of the main branch, of another, or of everything, as Atom."""
    return Response(atom_of(site, key, branch, every=every), media_type="application/atom+xml", headers=_ASKED_ANEW)


@router.get("/feeds/{key}.ics", response_class=Response, dependencies=[OPEN])
def schedule_feed(site: TheSite, key: str) -> Response:
    """The next times of schedules as a calendar that can be subscribed to."""
    return Response(calendar_of(site, key), media_type="text/calendar; charset=utf-8", headers=_ASKED_ANEW)


@router.post("/projects/{project}/badge-key", dependencies=[MEMBER])
def badge_key(site: TheSite, project: str) -> BadgeKey:
    """What stands in the addresses of the project's badges."""
    return BadgeKey(key=_badge_key(site, project))


_PICTURES = Shortly(seconds=0.5, most=2000)  # a badge that many readers ask for at once is made once in that time


@router.get("/badges/{key}/{what}.svg", response_class=Response, dependencies=[OPEN])
def badge(
    site: TheSite,
    request: Request,
    key: str,
    what: str,
    branch: _Short = "",
    tag: _Short = "",
    job: _Short = "",
    text: _Short = "",
    theme: Annotated[str, Query(pattern="^(light|dark|auto)$")] = "auto",
) -> Response:
    """What is said of a branch or tag now, as a small picture; it may be kept, but is asked for anew each time."""
    asked = (key, what, branch, tag, job, text, theme)
    picture = _PICTURES.get((site.address, *asked), lambda: svg(badge_of(site, *asked[:-1]), theme))
    mark = f'"{hashlib.sha256(picture.encode()).hexdigest()[:24]}"'
    headers = {"Cache-Control": "no-cache", "ETag": mark, "Access-Control-Allow-Origin": "*"}
    if request.headers.get("if-none-match") == mark:
        return Response(status_code=304, headers=headers)
    return Response(picture, media_type="image/svg+xml", headers=headers)
