"""Background tasks, deferred in the transaction of the state that calls for them."""

from __future__ import annotations

import json

from sqlalchemy import text
from sqlalchemy.orm import Session

_DEFER = text(
    "SELECT procrastinate_defer_jobs_v1(ARRAY[ROW(:queue, :task, :priority, :lock, NULL, CAST(:args AS jsonb), NULL)"
    "::procrastinate_job_to_defer_v1])"
)


INWARD, OUTWARD = "default", "outward"  # what waits for others has workers of its own: it keeps no verdict waiting


def defer(
    session: Session, task: str, *, queue: str = INWARD, lock: str | None = None, priority: int = 0, **args: int | str
) -> None:
    """Ask the worker to run `task` once this transaction is committed; tasks with one lock run one after another."""
    session.execute(
        _DEFER, {"queue": queue, "task": task, "lock": lock, "priority": priority, "args": json.dumps(args)}
    )


def take_up_orphans(session: Session, silent_for: float) -> int:
    """Give back tasks whose worker was killed (no heartbeat for `silent_for` seconds, or gone); how many."""
    result = session.execute(
        text(
            """
            WITH orphan AS (
                SELECT job.id FROM procrastinate_jobs job
                LEFT JOIN procrastinate_workers worker ON worker.id = job.worker_id
                WHERE job.status = 'doing'
                  AND (worker.id IS NULL OR worker.last_heartbeat < now() - make_interval(secs => :seconds))
                FOR UPDATE OF job SKIP LOCKED
            )
            UPDATE procrastinate_jobs SET status = 'todo', worker_id = NULL, attempts = attempts + 1
            FROM orphan WHERE orphan.id = procrastinate_jobs.id
            RETURNING procrastinate_jobs.id
            """
        ),
        {"seconds": silent_for},
    )
    return len(result.all())


def forget_finished_tasks(session: Session) -> None:
    session.execute(
        text(
            "DELETE FROM procrastinate_jobs WHERE status IN ('succeeded', 'cancelled') AND id < "
            "(SELECT coalesce(max(id), 0) - 1000 FROM procrastinate_jobs)"
        )
    )
