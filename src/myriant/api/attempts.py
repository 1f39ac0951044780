"""Attempts: steps, log, record, files."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import APIRouter, Header, Query, Response
from fastapi.responses import StreamingResponse

from myriant.api.access import VIEWER, TheSite
from myriant.api.zips import zipped
from myriant.flow.diagnose.machine import MachineDifference
from myriant.flow.diagnose.machine import machine_difference as _machine_difference
from myriant.flow.diagnose.record import RecordView
from myriant.flow.diagnose.record import record as _record
from myriant.flow.logs import log_piece
from myriant.flow.views.evidence.attempt import AttemptView, attempt_view, files_of, report_source
from myriant.flow.views.evidence.log import MOST_LINES, Hits, LogLines, Usual, whole_log
from myriant.flow.views.evidence.log import log_lines as _log_lines
from myriant.flow.views.evidence.log import search_log as _search_log
from myriant.flow.views.evidence.log import usual_lines as _usual_lines

router = APIRouter()


VIEWED = {
    "html": "text/html; charset=utf-8",
    "htm": "text/html; charset=utf-8",
    "png": "image/png",
    "jpg": "image/jpeg",
    "jpeg": "image/jpeg",
    "gif": "image/gif",
    "webp": "image/webp",
    "svg": "image/svg+xml",
}


_ISOLATED = {
    "Content-Security-Policy": "sandbox; default-src 'none'; img-src data:; style-src 'unsafe-inline'; "
    "font-src data:; frame-ancestors 'self'",
    "X-Content-Type-Options": "nosniff",
    "Cache-Control": "private",
}


@router.get("/attempts/{attempt}", dependencies=[VIEWER])
def attempt(site: TheSite, attempt: int) -> AttemptView:
    return attempt_view(site, attempt)


@router.get(
    "/attempts/{attempt}/log",
    response_class=Response,
    responses={200: {"content": {"text/plain": {}}}},
    dependencies=[VIEWER],
)
def log(
    site: TheSite,
    attempt: int,
    start: Annotated[int, Query(ge=0)] = 0,
    most: Annotated[int, Query(ge=1, le=4_000_000)] = 1_000_000,
) -> Response:
    """Log bytes from `start`; headers tell the size so far and whether it is complete."""
    piece, size, complete = log_piece(site, attempt, start, most)
    headers = {"X-Log-Size": str(size), "X-Log-Complete": "yes" if complete else "no", "Cache-Control": "no-store"}
    return Response(piece, media_type="text/plain; charset=utf-8", headers=headers)


@router.get("/attempts/{attempt}/log/raw", response_class=Response, dependencies=[VIEWER])
def raw_log(site: TheSite, attempt: int) -> StreamingResponse:
    """The whole log as a file, whatever its size."""
    headers = {
        "Content-Disposition": f'attachment; filename="attempt-{attempt}.log"',
        "X-Content-Type-Options": "nosniff",
    }
    return StreamingResponse(whole_log(site, attempt), media_type="application/octet-stream", headers=headers)


@router.get("/reports/{report}/raw", response_class=Response, dependencies=[VIEWER])
def raw_report(
    site: TheSite,
    report: int,
    wanted: Annotated[str | None, Header(alias="Range", max_length=200)] = None,
    unchanged: Annotated[str | None, Header(alias="If-Range", max_length=200)] = None,
) -> Response:
    """A delivered file; one whose download broke off goes on where it stopped (RFC 9110, one range)."""
    file = report_source(site, report)
    safe = "".join(c if c.isascii() and (c.isalnum() or c in "._-") else "_" for c in file.name)
    mark = f'"{file.digest}"'
    headers = {
        "Content-Disposition": f'attachment; filename="{safe}"',
        "X-Content-Type-Options": "nosniff",
        "ETag": mark,
        "Accept-Ranges": "bytes",
    }
    asked = part_of(wanted, file.size) if wanted and unchanged in (None, mark) else None
    if asked == NOT_THERE:
        return Response(status_code=416, headers={**headers, "Content-Range": f"bytes */{file.size}"})
    start, end = asked or (0, file.size)
    headers["Content-Length"] = str(end - start)
    if asked is not None:
        headers["Content-Range"] = f"bytes {start}-{end - 1}/{file.size}"
    return StreamingResponse(
        site.blobs.piece(file.blob, start, end),
        206 if asked is not None else 200,
        headers,
        media_type="application/octet-stream",
    )


NOT_THERE = (-1, -1)


def part_of(wanted: str, size: int) -> tuple[int, int] | None:
    """The bytes from, up to, that a Range header asks for of a file; None where it asks for the whole, or for what is
    not understood; NOT_THERE where no such byte is there.
    """
    found = re.fullmatch(r"bytes=(\d{0,15})-(\d{0,15})", wanted.replace(" ", ""))
    if found is None or not (found[1] or found[2]):
        return None
    if not found[1]:  # so many at the end
        start, end = max(0, size - int(found[2])), size
    else:
        start, end = int(found[1]), min(size, int(found[2]) + 1 if found[2] else size)
        if found[2] and int(found[2]) < start:
            return None
    return (start, end) if start < end else NOT_THERE


@router.get("/attempts/{attempt}/record", dependencies=[VIEWER])
def record(site: TheSite, attempt: int) -> RecordView:
    """Phases, settings, machine and caches of an attempt."""
    return _record(site, attempt)


@router.get("/attempts/{attempt}/machine-difference", dependencies=[VIEWER])
def machine_difference(site: TheSite, attempt: int, other: int | None = None) -> MachineDifference | None:
    """What differs from another attempt's machine, by default the newest passing one of the same cell before.

    Nothing when there is none to compare with.
    """
    return _machine_difference(site, attempt, other)


@router.get("/attempts/{attempt}/files", response_class=Response, dependencies=[VIEWER])
def all_files(site: TheSite, attempt: int) -> StreamingResponse:
    """Every file that an attempt delivered, as one ZIP archive."""
    headers = {"Content-Disposition": f'attachment; filename="attempt-{attempt}.zip"'}
    files = [(path, site.blobs.chunks(blob)) for blob, path in files_of(site, attempt)]
    return StreamingResponse(zipped(files), media_type="application/zip", headers=headers)


@router.get("/reports/{report}/view", response_class=Response, dependencies=[VIEWER])
def view_report(site: TheSite, report: int) -> StreamingResponse:
    """A file for looking at in a frame: it may draw, but neither run programs nor reach anything."""
    file = report_source(site, report)
    kind = VIEWED.get(file.name.rsplit(".", 1)[-1].lower(), "text/plain; charset=utf-8")
    return StreamingResponse(site.blobs.chunks(file.blob), media_type=kind, headers=_ISOLATED)


@router.get("/attempts/{attempt}/log/lines", dependencies=[VIEWER])
def log_lines(
    site: TheSite,
    attempt: int,
    first: Annotated[int, Query(ge=1)] = 1,
    count: Annotated[int, Query(ge=0, le=MOST_LINES)] = 500,
) -> LogLines:
    """Lines of a log, with its size so far."""
    return _log_lines(site, attempt, first, count)


@router.get("/attempts/{attempt}/log/search", dependencies=[VIEWER])
def search_log(site: TheSite, attempt: int, text: Annotated[str, Query(min_length=1, max_length=500)]) -> Hits:
    return _search_log(site, attempt, text)


@router.get("/attempts/{attempt}/log/usual", dependencies=[VIEWER])
def usual_lines(site: TheSite, attempt: int) -> Usual:
    """Which lines passing attempts print too, where the steps begin, and the first line that speaks of trouble."""
    return _usual_lines(site, attempt)
