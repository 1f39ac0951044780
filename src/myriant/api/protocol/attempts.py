"""What a runner tells and asks of an attempt that it holds."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Annotated, Any

from fastapi import APIRouter, Depends, HTTPException, Path, Query, Request
from fastapi.responses import StreamingResponse
from starlette.concurrency import run_in_threadpool

from myriant.api.access import LEASE, TheSite, bearer
from myriant.api.packs import pack_answer, refs_answer
from myriant.flow.delivery import caches, log, reports, steps
from myriant.flow.delivery.expected import expected_of_step
from myriant.flow.delivery.reports import Delivered
from myriant.flow.state.leases import source_of_lease
from myriant.wire.attempts import RECORDS, CacheAnswer, CacheSaid, CacheWanted, Expected, Finish, Size, StepTold
from myriant.wire.limits import MOST_PIECE
from myriant.wire.parcels import BadParcel, CacheHead, HeadReader, ReportHead

router = APIRouter(dependencies=[LEASE])
Token = Annotated[str, Depends(bearer)]


@router.post("/attempts/{attempt}/steps", status_code=204)
def step(site: TheSite, attempt: int, told: StepTold, token: Token) -> None:
    steps.record_step(site, attempt, token, told.model_dump())


@router.get("/attempts/{attempt}/steps/{position}/expected")
def expected(site: TheSite, attempt: int, position: int, token: Token) -> Expected:
    """Keys of the tests that the baseline lists for a step."""
    return Expected(tests=expected_of_step(site, attempt, token, position))


def _within(most: int, body: bytes) -> bytes:
    if len(body) > most:
        raise HTTPException(413, f"a body of more than {most:,} bytes")
    return body


@router.put("/attempts/{attempt}/log")
async def put_log(
    site: TheSite,
    request: Request,
    attempt: int,
    offset: Annotated[int, Query(ge=0)],
    token: Token,
    at: datetime | None = None,
) -> Size:
    """A piece of log at its offset, printed `at` a time; the same piece again changes nothing."""
    data = _within(MOST_PIECE, await request.body())
    return Size(size=await run_in_threadpool(log.keep_log, site, attempt, token, offset, data, at))


@router.put("/attempts/{attempt}/reports", status_code=204)
async def put_reports(site: TheSite, request: Request, attempt: int, token: Token) -> None:
    """Files, as parcels: each behind a line of JSON that describes it. A long one came in parts before."""
    delivered = _unpacked(await request.body())
    await run_in_threadpool(reports.keep_reports, site, attempt, token, delivered)


def _unpacked(body: bytes) -> list[Delivered]:
    reader, found, pieces = HeadReader(ReportHead), list[Delivered](), list[list[bytes]]()
    try:
        for part in reader.feed(body):
            if isinstance(part, ReportHead):
                pieces.append([])
                found.append(_delivered(part, pieces[-1]))
            else:
                pieces[-1].append(part)
        reader.end()
    except BadParcel as error:
        raise HTTPException(422, f"the parcels cannot be read: {error}") from error
    return found


def _delivered(head: ReportHead, chunks: list[bytes]) -> Delivered:
    until = datetime.now(UTC) + timedelta(seconds=head.keep) if head.keep is not None else None
    return Delivered(
        head.number,
        head.step,
        head.content,
        head.kind.replace("\0", ""),
        head.path.replace("\0", ""),
        head.digest,
        chunks,
        head.parts,
        until,
    )


@router.put("/attempts/{attempt}/reports/{number}/parts/{part}", status_code=204)
async def put_part(
    site: TheSite,
    request: Request,
    attempt: int,
    number: Annotated[int, Path(ge=0, le=1_000_000)],
    part: Annotated[int, Path(ge=0, le=100_000)],
    token: Token,
) -> None:
    """A part of a long report; a part that was lost on its way is sent again, the others are not."""
    data = await request.body()
    await run_in_threadpool(reports.keep_part, site, attempt, token, f"{number:04d}", part, data)


@router.put("/attempts/{attempt}/record/{kind}", status_code=204)
async def put_record(
    site: TheSite, request: Request, attempt: int, kind: Annotated[str, Path(pattern=RECORDS)], token: Token
) -> None:
    """What is told of an attempt beside its steps, as JSON."""
    data = _within(MOST_PIECE, await request.body())
    await run_in_threadpool(steps.keep_record, site, attempt, token, kind, data)


@router.post("/attempts/{attempt}/caches/find")
def find_cache(site: TheSite, attempt: int, wanted: CacheWanted, token: Token) -> CacheAnswer:
    """A kept archive for exactly this key, or why there is none."""
    found = caches.find_cache(site, attempt, token, wanted.name, wanted.key.model_dump())
    return CacheAnswer(entry=found.entry, digest=found.digest, size=found.size, seconds=found.seconds, said=found.said)


@router.get("/attempts/{attempt}/caches/entries/{entry}", response_class=StreamingResponse)
def cache_archive(site: TheSite, attempt: int, entry: int, token: Token) -> StreamingResponse:
    return StreamingResponse(caches.cache_archive(site, attempt, token, entry), media_type="application/octet-stream")


@router.put("/attempts/{attempt}/caches/{digest}/parts/{part}", status_code=204)
async def put_cache_part(
    site: TheSite,
    request: Request,
    attempt: int,
    digest: Annotated[str, Path(pattern="^[0-9a-f]{64}$")],
    part: Annotated[int, Path(ge=0, le=100_000)],
    token: Token,
) -> None:
    """A part of an archive."""
    data = await request.body()
    await run_in_threadpool(reports.keep_part, site, attempt, token, digest, part, data)


@router.post("/attempts/{attempt}/caches")
def put_cache(site: TheSite, attempt: int, head: CacheHead, token: Token) -> CacheSaid:
    """An archive whose parts are there, to keep should the attempt pass."""
    told: dict[str, Any] = {"key": head.key.model_dump(), "seconds": head.seconds}
    parts: Iterator[bytes] = iter(reports.parts_of(site, attempt, head.digest, head.parts))
    said = caches.keep_cache(site, attempt, token, head.name, told, parts, head.digest)
    reports.forget_parts(site, attempt, head.digest, head.parts)
    return CacheSaid(said=said)


@router.post("/attempts/{attempt}/finish", status_code=204)
def finish(site: TheSite, attempt: int, said: Finish, token: Token) -> None:
    steps.finish(site, attempt, token, said.model_dump())


@router.get("/attempts/{attempt}/handed/{report}", response_class=StreamingResponse)
def handed(site: TheSite, attempt: int, report: int, token: Token) -> StreamingResponse:
    """A file that an earlier job of the same run handed over."""
    return StreamingResponse(reports.handed_file(site, attempt, token, report), media_type="application/octet-stream")


@router.get("/attempts/{attempt}/source/info/refs", include_in_schema=False)
async def source_refs(site: TheSite, request: Request, attempt: int, service: str) -> StreamingResponse:
    project, _ = await run_in_threadpool(source_of_lease, site, attempt, bearer(request))
    if service != "git-upload-pack":
        raise HTTPException(403, "the source is for fetching only")
    return refs_answer(site, project, request)


@router.post("/attempts/{attempt}/source/git-upload-pack", include_in_schema=False)
async def source_pack(site: TheSite, request: Request, attempt: int) -> StreamingResponse:
    project, _ = await run_in_threadpool(source_of_lease, site, attempt, bearer(request))
    return await pack_answer(site, project, request)
