"""Steps and records of an attempt, and its end."""

from __future__ import annotations

import json
from collections.abc import Mapping
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.states import State
from myriant.flow.dispatch.leases import held, lease_digest
from myriant.flow.errors import BadInput
from myriant.flow.site import Site
from myriant.flow.state.attempts import deliver
from myriant.store.attempts import keep_record as keep
from myriant.store.attempts import keep_step
from myriant.store.changes import ring_runners, tell, tell_of_attempt
from myriant.store.queue import defer
from myriant.store.tables import Attempt, Runner

MOST_TROUBLES = 5  # attempts in a row that a runner's machine made void before it is drained


def record_step(site: Site, attempt_id: int, token: str, step: dict[str, Any]) -> None:
    """Keep what a runner says of a step: at its start and again at its end."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        if attempt.started_at is None and step.get("started_at") is not None:
            attempt.started_at = step["started_at"]
        step = {k: v.replace("\0", "") if isinstance(v, str) else v for k, v in step.items()}
        keep_step(session, attempt_id, step)
        tell_of_attempt(session, attempt, "cell")


def keep_record(site: Site, attempt_id: int, token: str, kind: str, data: bytes) -> None:
    """Keep what a runner tells of an attempt beside its steps, as JSON; the newest word counts. Raises BadInput."""
    try:
        content = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise BadInput(f"the record is not JSON: {error}") from error
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        _keep_record(session, attempt_id, kind, content)
        tell_of_attempt(session, attempt, "cell")


def _kept(content: Any) -> Any:
    """What PostgreSQL can keep of it: no zero bytes."""
    return json.loads(json.dumps(content, default=str).replace("\\u0000", ""))


def _keep_record(session: Session, attempt_id: int, kind: str, content: Any) -> None:
    keep(session, attempt_id, kind, _kept(content))


def finish(site: Site, attempt_id: int, token: str, said: dict[str, Any]) -> None:
    """A runner is done; its reports are read next. Only then has the attempt an outcome."""
    with site.store.transaction() as session:
        attempt = session.get(Attempt, attempt_id, with_for_update=True)
        if attempt is not None and attempt.state == State.READING and attempt.lease_digest == lease_digest(token):
            return  # the answer to the first time was lost
        attempt = held(session, attempt_id, token, lock=True)
        record = said.pop("record", {})
        said = _kept(said)
        for kind, content in record.items():
            _keep_record(session, attempt_id, kind, content)
        deliver(attempt, said)
        defer(session, "ingest", lock=f"attempt-{attempt_id}", priority=5, attempt_id=attempt_id)
        ring_runners(session)
        tell_of_attempt(session, attempt, "cell")
    _watch_machine(site, attempt.runner_id, said)


def _watch_machine(site: Site, runner_id: int | None, said: Mapping[str, Any]) -> None:
    """Drain a runner whose attempts keep going void because of its machine.

    A transaction of its own: a runner's row is locked before its attempts everywhere.
    """
    troubled = bool(said.get("machine"))
    with site.store.transaction() as session:
        found = session.get(Runner, runner_id) if runner_id is not None else None
        if found is None or not (troubled or found.troubles):
            return
        runner = session.get_one(Runner, runner_id, with_for_update=True, populate_existing=True)
        runner.troubles = runner.troubles + 1 if troubled else 0
        if runner.troubles >= MOST_TROUBLES and not runner.drained:
            why = f"its last {runner.troubles} attempts went void because of its machine: {said.get('void', '')}"
            runner.drained = why[:1000]
            tell(session, "runner")
