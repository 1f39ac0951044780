"""The runner protocol, version 1: enrol, claim, heartbeat, steps, log, reports, finish, source.

Everything a runner does for an attempt carries the lease's token; once the lease is lost the answer
is 409 with the type /problems/lease-lost, and nothing late is taken.
"""

from __future__ import annotations

import asyncio
import base64
from collections.abc import Iterator
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from tempfile import SpooledTemporaryFile
from typing import Annotated, Any

from fastapi import APIRouter, Depends, Header, HTTPException, Path, Query, Request
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, Field
from starlette.concurrency import run_in_threadpool

from myriant.api.access import TheSite, bearer, runner_token
from myriant.api.live import Live
from myriant.api.packs import pack_answer, refs_answer
from myriant.core.plan.model import Command, Job, Step
from myriant.flow.delivery.caches import CacheAnswer, keep_cache
from myriant.flow.delivery.caches import cache_archive as _cache_archive
from myriant.flow.delivery.caches import find_cache as _find_cache
from myriant.flow.delivery.log import keep_log
from myriant.flow.delivery.reports import MOST_REPORT_BYTES, forget_parts, handed_file, keep_part, keep_report, parts_of
from myriant.flow.delivery.steps import finish as _finish
from myriant.flow.delivery.steps import keep_record, record_step
from myriant.flow.dispatch.claims import Lease
from myriant.flow.dispatch.claims import claim as _claim
from myriant.flow.dispatch.fleet import enrol as _enrol
from myriant.flow.dispatch.fleet import leave as _leave
from myriant.flow.dispatch.leases import LEASE, check_lease
from myriant.flow.dispatch.leases import heartbeat as _heartbeat

router = APIRouter()
PROTOCOL = 1
_CONTENTS = "^(tests|coverage|analysis|attachment|artifact|hand-over|retest|companion)$"
_RECORDS = "^(phases|settings|machine|caches)$"
_MOST_RECORD = 8 << 20


class Runtime(BaseModel):
    family: str = Field(pattern=r"^[a-z][a-z0-9-]*$", max_length=60)
    version: str = Field(pattern=r"^\d+(\.\d+)*$", max_length=60)
    path: str = Field(max_length=4000)
    system: bool = False


class Enrolment(BaseModel):
    protocol: int
    name: str = Field(min_length=1, max_length=200)
    slots: int = Field(ge=1, le=1024)
    runtimes: list[Runtime] = Field(max_length=1000)
    isolation: str = Field(max_length=200)
    labels: list[Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9._-]*$", max_length=60)]] = Field([], max_length=100)
    price: float = Field(0.0, ge=0)
    machine: dict[str, str] = Field({}, max_length=50)
    version: str = Field(max_length=60)
    boot: str = Field(max_length=60)


class Enrolled(BaseModel):
    runner: int
    heartbeat: float
    lease: float


class Claim(BaseModel):
    boot: str = Field(max_length=60)
    free: int = Field(ge=1, le=1024)
    holding: list[int] = Field([], max_length=1024)
    wait: float = Field(20, ge=0, le=60)


class RetestWish(BaseModel):
    command: str | list[str]
    each: str


class CacheWish(BaseModel):
    name: str
    keep: list[str]
    renew_on: list[str]


class ReadyWish(BaseModel):
    within: float
    tcp: bool = False
    http: str | None = None
    line: str | None = None
    command: str | list[str] | None = None


class CompanionWish(BaseModel):
    name: str
    command: str | list[str]
    ready: ReadyWish
    folder: str = ""
    env: dict[str, str] = {}
    port: int | None = None


class LimitsWish(BaseModel):
    """What an attempt may take; none: the runner's own limit. Memory, disk and output are bytes."""

    memory: int | None = None
    processes: int | None = None
    disk: int | None = None
    output: int | None = None


class CacheKey(BaseModel):
    """What a cache depends on: digests of files, exact runtimes, the system, what it keeps."""

    renew: dict[str, str] = Field(max_length=10_000)
    runtimes: dict[str, str] = Field(max_length=100)
    system: str = Field(max_length=400)
    keep: list[str] = Field(max_length=1000)


class CacheTold(BaseModel):
    key: CacheKey
    seconds: dict[str, float] = Field({}, max_length=1000)


class CacheSaid(BaseModel):
    said: str


class OriginGiven(BaseModel):
    place: str
    value: str
    step: int | None = None


class CollectWish(BaseModel):
    kind: str
    tests: list[str]
    coverage: list[str]
    analysis: list[str] = []
    attachments: list[str] = []
    may_be_empty: bool


class StepWish(BaseModel):
    name: str
    command: str | list[str]
    collect: list[CollectWish]
    folder: str = ""
    shell: str = "sh"
    env: dict[str, str] = {}
    timeout: float | None = None
    always: bool = False
    may_fail: bool = False
    network: bool = True
    skipped: str = ""  # why it does not run in this cell
    secrets: list[str] = []
    retest: RetestWish | None = None


class ArtifactWish(BaseModel):
    files: list[str]
    keep: float | None = None  # seconds


class Handed(BaseModel):
    """A file that an earlier job handed over."""

    report: int
    job: str
    key: str  # of its cell, empty when the job has only one
    path: str


class SourceWish(BaseModel):
    full: bool = False
    tags: bool = False
    submodules: bool = False


class SettingsWish(BaseModel):
    file: str
    example: str = ""
    to: str = ""


class LeaseGiven(BaseModel):
    attempt: int
    token: str
    project: str
    run: int
    number: int
    commit: str
    before: str
    branch: str
    event: str
    tag: str = ""
    job: str
    values: dict[str, str]
    wants: list[str]
    env: dict[str, str]
    timeout: float
    steps: list[StepWish]
    source: SourceWish = SourceWish()
    settings: SettingsWish | None = None
    artifacts: list[ArtifactWish] = []
    hand_over: dict[str, str] = {}
    handed: list[Handed] = []
    address: str = ""
    limits: LimitsWish = LimitsWish()
    describe: list[str] = []
    caches: list[CacheWish] = []
    companions: list[CompanionWish] = []
    secrets: dict[str, str] = {}
    job_secrets: list[str] = []
    retries: int = 0
    origins: dict[str, list[OriginGiven]] = {}


class Heartbeat(BaseModel):
    attempts: dict[int, str] = Field(max_length=1024)


class Lost(BaseModel):
    lost: list[int]


class StepTold(BaseModel):
    position: int = Field(ge=0, le=1000)
    name: str = Field(max_length=400)
    command: str = Field(max_length=100_000)
    state: str = Field(pattern="^(running|passed|failed|void|skipped)$")
    reason: str = Field("", max_length=4000)
    exit_status: int | None = None
    started_at: datetime | None = None
    ended_at: datetime | None = None
    log_from: int | None = None
    log_to: int | None = None


class Finish(BaseModel):
    void: str = Field("", max_length=4000)
    machine: bool = False  # the runner's machine is why it is void
    retested: int = Field(0, ge=0, le=100)
    missing: list[str] = Field([], max_length=1000)
    missing_coverage: list[str] = Field([], max_length=1000)
    workspace: str = Field("", max_length=4000)
    failed_steps: list[int] = Field([], max_length=1000)
    runtimes: dict[str, str] = {}
    record: dict[Annotated[str, Field(pattern=_RECORDS)], Any] = Field({}, max_length=10)


class Size(BaseModel):
    size: int


@router.post("/runners", dependencies=[Depends(runner_token)])
def enrol(site: TheSite, wish: Enrolment) -> Enrolled:
    if wish.protocol != PROTOCOL:
        raise HTTPException(
            409, f"this server speaks runner protocol {PROTOCOL}, the runner {wish.protocol}: upgrade it"
        )
    runtimes: list[dict[str, Any]] = [r.model_dump() for r in wish.runtimes]
    runner = _enrol(
        site, wish.name, wish.slots, runtimes, wish.isolation, wish.version, wish.boot, wish.labels, wish.price,
        wish.machine,
    )  # fmt: skip
    lease = LEASE.total_seconds()
    return Enrolled(runner=runner, heartbeat=lease / 4, lease=lease)


@router.post("/runners/{runner}/claim", dependencies=[Depends(runner_token)])
async def claim(site: TheSite, request: Request, runner: int, wish: Claim) -> list[LeaseGiven]:
    """Cells for the free slots; waits up to `wait` seconds for one."""
    live: Live = request.app.state.live
    clock = asyncio.get_running_loop()
    end = clock.time() + wish.wait
    holding = set(wish.holding)
    while True:
        bell = live.cells
        leases = await run_in_threadpool(_claim, site, runner, wish.boot, wish.free, holding)
        remaining = end - clock.time()
        if leases or remaining <= 0:
            return [given(lease) for lease in leases]
        if bell is live.cells:
            await live.wait_for_cells(min(remaining, 5))


def given(lease: Lease) -> LeaseGiven:
    """A lease as it travels to a runner."""
    return LeaseGiven(
        attempt=lease.attempt_id, token=lease.token, project=lease.project, run=lease.run, number=lease.number,
        commit=lease.commit, before=lease.before, branch=lease.branch, event=lease.event, job=lease.job.id,
        values=lease.values, wants=lease.wants, env=lease.job.env, timeout=lease.job.timeout,
        tag=lease.tag,
        steps=[
            StepWish(
                name=s.name, command=_words(s.command),
                collect=[CollectWish.model_validate(asdict(c)) for c in s.collect],
                folder=s.folder or lease.job.folder or "", shell=s.shell or lease.job.shell or "sh", env=s.env,
                timeout=s.timeout, always=s.always, may_fail=s.may_fail, 
                network=_network(lease.job, s), skipped=skipped, secrets=list(s.secrets),
                retest=RetestWish(command=_words(s.retest.command), each=s.retest.each) if s.retest else None,
            )
            for s, skipped in zip(lease.job.steps, lease.skipped, strict=True)
        ],
        source=SourceWish(
            full=lease.job.source.history == "full", tags=lease.job.source.tags, submodules=lease.job.source.submodules
        ),
        settings=SettingsWish(**{k: v or "" for k, v in asdict(lease.job.settings).items()})
        if lease.job.settings
        else None,
        artifacts=[ArtifactWish(files=list(a.files), keep=a.keep) for a in lease.job.artifacts],
        hand_over=lease.job.hand_over,
        handed=[Handed(report=h.report, job=h.job, key=h.key, path=h.path) for h in lease.handed],
        address=lease.address, limits=LimitsWish(**asdict(lease.job.limits)), describe=list(lease.job.describe),
        caches=[CacheWish(name=c.name, keep=list(c.keep), renew_on=list(c.renew_on)) for c in lease.job.cache],
        companions=[
            CompanionWish(
                name=c.name, command=_words(c.command), folder=c.folder or "", env=c.env, port=c.port,
                ready=ReadyWish(
                    within=c.ready.within, tcp=c.ready.tcp, http=c.ready.http, line=c.ready.line,
                    command=_words(c.ready.command) if c.ready.command is not None else None,
                ),
            )
            for c in lease.job.companions
        ],
        secrets=dict(lease.secrets), job_secrets=list(lease.job.secrets), retries=lease.job.retry.tests,
        origins={n: [OriginGiven(**asdict(o)) for o in places] for n, places in lease.origins.items()},
    )  # fmt: skip


def _words(command: Command) -> str | list[str]:
    return command if isinstance(command, str) else list(command)


def _network(job: Job, step: Step) -> bool:
    return job.network if step.network is None else step.network


@router.post("/runners/{runner}/heartbeat", dependencies=[Depends(runner_token)])
def heartbeat(site: TheSite, runner: int, beat: Heartbeat) -> Lost:
    return Lost(lost=_heartbeat(site, runner, beat.attempts))


@router.post("/attempts/{attempt}/steps", status_code=204)
def step(site: TheSite, attempt: int, told: StepTold, token: Annotated[str, Depends(bearer)]) -> None:
    record_step(site, attempt, token, told.model_dump())


@router.put("/attempts/{attempt}/log")
async def put_log(
    site: TheSite,
    request: Request,
    attempt: int,
    offset: Annotated[int, Query(ge=0)],
    token: Annotated[str, Depends(bearer)],
    at: datetime | None = None,
) -> Size:
    """A piece of log at its offset, printed `at` a time; the same piece again changes nothing."""
    data = bytearray()
    async for chunk in request.stream():
        data += chunk
        if len(data) > 8 << 20:
            raise HTTPException(413, "send the log in pieces of at most 8 MiB")
    return Size(size=await run_in_threadpool(keep_log, site, attempt, token, offset, bytes(data), at))


@router.put("/attempts/{attempt}/reports/{number}", status_code=204)
async def put_report(
    site: TheSite, request: Request, attempt: int, number: int, token: Annotated[str, Depends(bearer)],
    step: Annotated[int, Query(ge=0)], content: Annotated[str, Query(pattern=_CONTENTS)],
    kind: Annotated[str, Query(max_length=60)], digest: Annotated[str, Query(pattern="^[0-9a-f]{64}$")],
    x_path: Annotated[str, Header(max_length=8000)], keep: Annotated[float | None, Query(gt=0)] = None,
    parts: Annotated[int, Query(ge=0, le=100_000)] = 0,
) -> None:  # fmt: skip
    """A raw report; `X-Path` is its path in the workspace, base64 of UTF-8. A long one came in `parts` before."""
    path = base64.b64decode(x_path).decode("utf-8", "replace").replace("\0", "")
    described = {"number": number, "step": step, "content": content, "kind": kind, "path": path}
    if keep is not None:
        described["until"] = datetime.now(UTC) + timedelta(seconds=keep)
    if parts:
        whole = parts_of(site, attempt, number, parts)
        await run_in_threadpool(keep_report, site, attempt, token, described, whole, digest)
        await run_in_threadpool(forget_parts, site, attempt, number, parts)
        return
    with SpooledTemporaryFile(max_size=4 << 20) as spool:
        size = 0
        async for chunk in request.stream():
            size += len(chunk)
            if size > MOST_REPORT_BYTES:
                raise HTTPException(413, f"a report may have {MOST_REPORT_BYTES:,} bytes at most")
            spool.write(chunk)
        spool.seek(0)

        def pieces() -> Iterator[bytes]:
            while piece := spool.read(1 << 18):
                yield piece

        await run_in_threadpool(keep_report, site, attempt, token, described, pieces(), digest)


@router.put("/attempts/{attempt}/reports/{number}/parts/{part}", status_code=204)
async def put_part(
    site: TheSite, request: Request, attempt: int, number: int, part: Annotated[int, Path(ge=0, le=100_000)],
    token: Annotated[str, Depends(bearer)],
) -> None:  # fmt: skip
    """A part of a long report; a part that was lost on its way is sent again, the others are not."""
    data = await _body(request, 32 << 20, "send a report in parts of at most 32 MiB")
    await run_in_threadpool(keep_part, site, attempt, token, number, part, data)


async def _body(request: Request, most: int, otherwise: str) -> bytes:
    data = bytearray()
    async for chunk in request.stream():
        data += chunk
        if len(data) > most:
            raise HTTPException(413, otherwise)
    return bytes(data)


@router.put("/attempts/{attempt}/record/{kind}", status_code=204)
async def put_record(
    site: TheSite, request: Request, attempt: int,
    kind: Annotated[str, Path(pattern=_RECORDS)], token: Annotated[str, Depends(bearer)],
) -> None:  # fmt: skip
    """What is told of an attempt beside its steps, as JSON."""
    data = await _body(request, _MOST_RECORD, "a record may have 8 MiB at most")
    await run_in_threadpool(keep_record, site, attempt, token, kind, data)


@router.post("/attempts/{attempt}/caches/{name}/find")
def find_cache(
    site: TheSite, attempt: int, name: str, key: CacheKey, token: Annotated[str, Depends(bearer)]
) -> CacheAnswer:
    """A kept archive for exactly this key, or why there is none."""
    return _find_cache(site, attempt, token, name, key.model_dump())


@router.get("/attempts/{attempt}/caches/entries/{entry}", response_class=StreamingResponse)
def cache_archive(site: TheSite, attempt: int, entry: int, token: Annotated[str, Depends(bearer)]) -> StreamingResponse:
    return StreamingResponse(_cache_archive(site, attempt, token, entry), media_type="application/octet-stream")


@router.put("/attempts/{attempt}/caches/{name}")
async def put_cache(
    site: TheSite, request: Request, attempt: int, name: Annotated[str, Path(max_length=200)],
    digest: Annotated[str, Query(pattern="^[0-9a-f]{64}$")], x_told: Annotated[str, Header(max_length=1 << 20)],
    token: Annotated[str, Depends(bearer)],
) -> CacheSaid:  # fmt: skip
    """An archive to keep, should the attempt pass; `X-Told` is base64 of JSON: its key, the preparing seconds."""
    try:
        told = CacheTold.model_validate_json(base64.b64decode(x_told))
    except ValueError as error:
        raise HTTPException(422, f"X-Told cannot be read: {error}") from error
    with SpooledTemporaryFile(max_size=4 << 20) as spool:
        async for chunk in request.stream():
            spool.write(chunk)
        spool.seek(0)

        def pieces() -> Iterator[bytes]:
            while piece := spool.read(1 << 18):
                yield piece

        said = await run_in_threadpool(keep_cache, site, attempt, token, name, told.model_dump(), pieces(), digest)
    return CacheSaid(said=said)


@router.post("/runners/{runner}/leave", status_code=204, dependencies=[Depends(runner_token)])
def leave(site: TheSite, runner: int, boot: Annotated[str, Query(max_length=60)]) -> None:
    """The runner finishes what it has and takes nothing more; another start may take its name."""
    _leave(site, runner, boot)


@router.post("/attempts/{attempt}/finish", status_code=204)
def finish(site: TheSite, attempt: int, said: Finish, token: Annotated[str, Depends(bearer)]) -> None:
    _finish(site, attempt, token, said.model_dump())


@router.get("/attempts/{attempt}/handed/{report}", response_class=StreamingResponse)
def handed(site: TheSite, attempt: int, report: int, token: Annotated[str, Depends(bearer)]) -> StreamingResponse:
    """A file that an earlier job of the same run handed over."""
    return StreamingResponse(handed_file(site, attempt, token, report), media_type="application/octet-stream")


@router.get("/attempts/{attempt}/source/info/refs", include_in_schema=False)
async def source_refs(site: TheSite, request: Request, attempt: int, service: str) -> StreamingResponse:
    project, _ = await run_in_threadpool(check_lease, site, attempt, bearer(request))
    if service != "git-upload-pack":
        raise HTTPException(403, "the source is for fetching only")
    return refs_answer(site, project, request)


@router.post("/attempts/{attempt}/source/git-upload-pack", include_in_schema=False)
async def source_pack(site: TheSite, request: Request, attempt: int) -> StreamingResponse:
    project, _ = await run_in_threadpool(check_lease, site, attempt, bearer(request))
    return await pack_answer(site, project, request)
