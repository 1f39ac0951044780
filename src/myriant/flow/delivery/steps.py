"""Steps and records of an attempt, and its end."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from pydantic import TypeAdapter
from sqlalchemy.orm import Session

from myriant.core.states import State
from myriant.flow.errors import BadInput, LeaseLost
from myriant.flow.site import Site
from myriant.flow.state.attempts import deliver
from myriant.flow.state.leases import check, held, lease_digest
from myriant.store.attempts import keep_records, keep_steps
from myriant.store.changes import ring_runners, tell, tell_of_attempt
from myriant.store.queue import defer
from myriant.store.records import Finish
from myriant.store.runners import troubles_of
from myriant.store.tables import Attempt, Runner

_FINISH: TypeAdapter[Finish] = TypeAdapter(Finish)
MOST_TROUBLES = 5  # attempts in a row that a runner's machine made void before it is drained


def record_step(site: Site, attempt_id: int, token: str, step: dict[str, Any]) -> None:
    """Keep what a runner says of a step: at its start and again at its end."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        _keep_steps(session, attempt, [step])
        tell_of_attempt(session, attempt, "cell")


def _keep_steps(session: Session, attempt: Attempt, told: Sequence[Mapping[str, Any]]) -> None:
    newest = {step["position"]: step for step in told}
    begun = [at for step in newest.values() if (at := step.get("started_at")) is not None]
    if attempt.started_at is None and begun:
        attempt.started_at = min(begun)
    clean = [{k: v.replace("\0", "") if isinstance(v, str) else v for k, v in s.items()} for s in newest.values()]
    keep_steps(session, attempt.id, clean)


def keep_record(site: Site, attempt_id: int, token: str, kind: str, data: bytes) -> None:
    """Keep what a runner tells of an attempt beside its steps, as JSON; the newest word counts. Raises BadInput."""
    try:
        content = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise BadInput(f"the record is not JSON: {error}") from error
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        keep_records(session, attempt_id, {kind: _kept(content)})
        tell_of_attempt(session, attempt, "cell")


def _kept(content: Any) -> Any:
    """What PostgreSQL can keep of it: no zero bytes."""
    return json.loads(json.dumps(content, default=str).replace("\\u0000", ""))


def finish(site: Site, attempt_id: int, token: str, said: dict[str, Any]) -> None:
    """A runner is done; its reports are read next. Only then has the attempt an outcome."""
    with site.store.transaction() as session:
        attempt = session.get(Attempt, attempt_id, with_for_update=True)
        if attempt is not None and attempt.state == State.READING and attempt.lease_digest == lease_digest(token):
            return  # the answer to the first time was lost
        if attempt is None:
            raise LeaseLost("this lease is not known")
        check(attempt.lease_digest, attempt.state, attempt.reason, token)
        record, steps = said.pop("record", {}), said.pop("steps", [])
        finish_said = _FINISH.validate_python(_kept(said))
        _keep_steps(session, attempt, steps)
        keep_records(session, attempt_id, {kind: _kept(content) for kind, content in record.items()})
        deliver(attempt, finish_said)
        defer(session, "ingest", lock=f"attempt-{attempt_id}", priority=5, attempt_id=attempt_id)
        ring_runners(session)
        tell_of_attempt(session, attempt, "cell")
    _watch_machine(site, attempt.runner_id, finish_said)


def _watch_machine(site: Site, runner_id: int | None, said: Finish) -> None:
    """Drain a runner whose attempts keep going void because of its machine.

    A transaction of its own: a runner's row is locked before its attempts everywhere.
    """
    troubled = said.machine
    if runner_id is None:
        return
    with site.store.transaction() as session:
        if not troubled and not troubles_of(session, runner_id):
            return
        runner = session.get(Runner, runner_id, with_for_update=True)
        if runner is None:
            return
        runner.troubles = runner.troubles + 1 if troubled else 0
        if runner.troubles >= MOST_TROUBLES and not runner.drained:
            why = f"its last {runner.troubles} attempts went void because of its machine: {said.void}"
            runner.drained = why[:1000]
            tell(session, "runner")
