"""The worker process: tasks as they come, and the sweep."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import signal

from sqlalchemy import text
from sqlalchemy.exc import SQLAlchemyError

from myriant.flow.site import Site
from myriant.flow.tasks import sweep, task_app

_log = logging.getLogger(__name__)
_SWEEP_SECONDS = 2.0


def run_worker(site: Site) -> None:
    """Work until a signal ends it."""
    asyncio.run(_work(site))


async def _work(site: Site) -> None:
    app = task_app(site)
    async with app.open_async():
        sweeping = asyncio.create_task(_sweep_again_and_again(site))
        try:
            await app.run_worker_async(
                concurrency=4, wait=True, fetch_job_polling_interval=0.5, delete_jobs="successful",
                update_heartbeat_interval=3.0, stalled_worker_timeout=15.0, shutdown_graceful_timeout=5.0,
            )  # fmt: skip
        finally:
            sweeping.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await sweeping


def _database_began(site: Site) -> str:
    with site.store.transaction() as session:
        return str(session.scalar(text("SELECT pg_postmaster_start_time()")))


async def _sweep_again_and_again(site: Site) -> None:
    began = await asyncio.to_thread(_database_began, site)
    while True:
        try:
            await asyncio.to_thread(sweep, site)
            if await asyncio.to_thread(_database_began, site) != began:
                # the listening connection died with the database: a fresh process hears again
                os.kill(os.getpid(), signal.SIGTERM)
                return
        except SQLAlchemyError as error:
            _log.warning("the sweep could not reach the database: %s", error)
        await asyncio.sleep(_SWEEP_SECONDS)
