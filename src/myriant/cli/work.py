"""The worker process: tasks as they come, and the sweep."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import os
import signal
import time
from concurrent.futures import ThreadPoolExecutor
from itertools import count

import procrastinate
from procrastinate.exceptions import ConnectorException
from sqlalchemy import text
from sqlalchemy.exc import SQLAlchemyError

from myriant.flow.site import Site
from myriant.flow.tasks import TEND_SECONDS, due_looks, look_at, sweep, task_app, tend_tasks
from myriant.flow.upkeep.timekeeping import Timekeeper
from myriant.settings import settings
from myriant.store.queue import INWARD, OUTWARD

_log = logging.getLogger(__name__)
_SWEEP_SECONDS = 1.0  # how exactly upkeep comes at its time
_LOOK_SECONDS = 2.0  # between two looks for repositories that are due
_POLL_SECONDS = 5.0  # for tasks that nobody rang for: those that are tried again
_LOOKS = 4  # repositories that are looked at side by side


def run_worker(site: Site) -> None:
    """Work until a signal ends it."""
    asyncio.run(_work(site))


async def _work(site: Site) -> None:
    app = task_app(site)
    async with app.open_async():
        outward = _run(app, OUTWARD, install_signal_handlers=False)
        beside = [
            asyncio.create_task(_sweep_again_and_again(site, app)),
            asyncio.create_task(_look_again_and_again(site)),
            asyncio.create_task(outward),
        ]
        try:
            await _run(app, INWARD)
        finally:
            for task in beside:
                task.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await task


async def _run(app: procrastinate.App, queue: str, *, install_signal_handlers: bool = True) -> None:
    await app.run_worker_async(
        queues=[queue],
        concurrency=4,
        wait=True,
        fetch_job_polling_interval=_POLL_SECONDS,
        delete_jobs="successful",
        update_heartbeat_interval=5.0,
        stalled_worker_timeout=15.0,
        shutdown_graceful_timeout=5.0,
        install_signal_handlers=install_signal_handlers,
    )


def _database_began(site: Site) -> str:
    with site.store.transaction() as session:
        return str(session.scalar(text("SELECT pg_postmaster_start_time()")))


async def _sweep_again_and_again(site: Site, app: procrastinate.App) -> None:
    began, keeper, tended, sweeps = "", Timekeeper(), 0.0, count()
    while True:
        try:
            began = began or await asyncio.to_thread(_database_began, site)
            await asyncio.to_thread(sweep, site, keeper)
            if tended <= time.monotonic():
                tended = time.monotonic() + TEND_SECONDS
                await tend_tasks(site, app, next(sweeps))
                if await asyncio.to_thread(_database_began, site) != began:
                    # the listening connection died with the database: a fresh process hears again
                    os.kill(os.getpid(), signal.SIGTERM)
                    return
        except (SQLAlchemyError, ConnectorException) as error:
            keeper = Timekeeper()  # what was not done is due still
            _log.warning("the sweep could not reach the database: %s", error)
        except Exception:
            _log.exception("the sweep failed; it is tried again")
        await asyncio.sleep(_SWEEP_SECONDS)


async def _look_again_and_again(site: Site) -> None:
    """Look at repositories that are due, some at a time: one that does not answer keeps no other waiting."""
    threads = ThreadPoolExecutor(_LOOKS, "look")
    looking: dict[str, asyncio.Future[None]] = {}
    try:
        while True:
            looking = {name: look for name, look in looking.items() if not look.done()}
            try:
                due = await asyncio.to_thread(due_looks, site)
            except SQLAlchemyError as error:
                _log.warning("it is not known which repositories are due: %s", error)
                due = []
            except Exception:
                _log.exception("it is not known which repositories are due")
                due = []
            for name in due:
                if name not in looking:
                    looking[name] = asyncio.get_running_loop().run_in_executor(threads, look_at, site, name)
            await asyncio.sleep(min(_LOOK_SECONDS, settings().poll_seconds))
    finally:
        threads.shutdown(wait=False, cancel_futures=True)
