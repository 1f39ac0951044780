"""Background tasks, deferred in the transaction of the state that calls for them, by Procrastinate's own functions."""

from __future__ import annotations

import logging

import procrastinate
from procrastinate.exceptions import ConnectorException
from sqlalchemy.orm import Session

_log = logging.getLogger(__name__)
_deferring = procrastinate.App(connector=procrastinate.SyncPsycopgConnector())  # speaks through others' connections


INWARD, OUTWARD = "default", "outward"  # what waits for others has workers of its own: it keeps no verdict waiting
_HOURS_KEPT = 24  # of a task that was called off


def defer(
    session: Session, task: str, *, queue: str = INWARD, lock: str | None = None, priority: int = 0, **args: int | str
) -> None:
    """Ask the worker to run `task` once this transaction is committed; tasks with one lock run one after another."""
    connection = session.connection().connection.driver_connection
    _deferring.configure_task(task, queue=queue, lock=lock, priority=priority, connection=connection).defer(**args)


async def take_up_orphans(app: procrastinate.App, silent_for: float) -> int:
    """Give back tasks whose worker was killed (no heartbeat for `silent_for` seconds, or gone); how many."""
    given_back = 0
    for job in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=silent_for):
        try:
            await app.job_manager.retry_job(job)
        except ConnectorException as error:
            _log.info("task %s needs nothing any more: %s", job.id, error)  # it ended, or another worker was first
        else:
            given_back += 1
    return given_back


async def forget_finished_tasks(app: procrastinate.App) -> None:
    """Remove what was called off long ago; what ended well is removed as it ends."""
    await app.job_manager.delete_old_jobs(_HOURS_KEPT, include_cancelled=True)
