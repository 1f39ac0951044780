"""Runners enrol, ask for work, and keep what they have alive."""

from __future__ import annotations

import asyncio
from typing import Annotated, Any

from fastapi import APIRouter, HTTPException, Query, Request
from starlette.concurrency import run_in_threadpool

from myriant.api.access import RUNNER, TheBearing, TheSite
from myriant.api.live import Live
from myriant.api.protocol.leases import given
from myriant.flow.admin.passes import check_name
from myriant.flow.dispatch import claims, fleet
from myriant.flow.state import leases
from myriant.wire.lease import Lease
from myriant.wire.limits import PROTOCOL
from myriant.wire.runners import Claim, Enrolled, Enrolment, Heartbeat, Lost

router = APIRouter(dependencies=[RUNNER])
_LOOK_AGAIN = 15.0  # seconds after which a runner that waits is looked after, though nothing rang


@router.post("/runners")
def enrol(site: TheSite, bearing: TheBearing, wish: Enrolment) -> Enrolled:
    if wish.protocol != PROTOCOL:
        raise HTTPException(
            409, f"this server speaks runner protocol {PROTOCOL}, the runner {wish.protocol}: upgrade it"
        )
    check_name(site, bearing, wish.name)
    runtimes: list[dict[str, Any]] = [r.model_dump() for r in wish.runtimes]
    runner = fleet.enrol(
        site,
        wish.name,
        wish.slots,
        runtimes,
        wish.isolation,
        wish.version,
        wish.boot,
        wish.labels,
        wish.price,
        wish.machine,
        bearing.projects,
    )
    lease = leases.LEASE.total_seconds()
    return Enrolled(runner=runner, heartbeat=lease / 4, lease=lease)


@router.post("/runners/{runner}/claim")
async def claim(site: TheSite, request: Request, runner: int, wish: Claim) -> list[Lease]:
    """Cells for the free slots; waits up to `wait` seconds for one."""
    live: Live = request.app.state.live
    clock = asyncio.get_running_loop()
    end = clock.time() + wish.wait
    holding = set(wish.holding)
    while not live.ending:
        bell = live.cells
        found = await run_in_threadpool(claims.claim, site, runner, wish.boot, wish.free, holding)
        remaining = end - clock.time()
        if found or remaining <= 0:
            return [given(lease) for lease in found]
        if bell is live.cells:
            await live.wait_for_cells(min(remaining, _LOOK_AGAIN))
    return []


@router.post("/runners/{runner}/heartbeat")
def heartbeat(site: TheSite, runner: int, beat: Heartbeat) -> Lost:
    return Lost(lost=leases.heartbeat(site, runner, beat.attempts))


@router.post("/runners/{runner}/leave", status_code=204)
def leave(site: TheSite, runner: int, boot: Annotated[str, Query(max_length=60)]) -> None:
    """The runner finishes what it has and takes nothing more; another start may take its name."""
    fleet.leave(site, runner, boot)
