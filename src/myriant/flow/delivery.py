"""Delivery: what a runner sends while it holds a lease: steps, log, records, caches, files, and the end."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

from sqlalchemy import func
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.flow import caching, logs
from myriant.flow.dispatch import handed_to, held, job_of, lease_digest, tell_run
from myriant.flow.errors import BadInput, NotFound
from myriant.flow.site import Site
from myriant.flow.uploads import take_file
from myriant.store.changes import ring_runners, tell
from myriant.store.queue import defer
from myriant.store.tables import Attempt, AttemptRecord, Cell, Report, Run, Runner, Step

MOST_REPORT_BYTES = 1 << 30
MOST_TROUBLES = 5  # attempts in a row that a runner's machine made void before it is drained


def handed_file(site: Site, attempt_id: int, token: str, report_id: int) -> Iterable[bytes]:
    """The content of a file that was handed over to an attempt. Raises LeaseLost, NotFound."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        allowed = {h.report for h in handed_to(session, run, job_of(run.plan or "", cell.job))}
        report = session.get(Report, report_id) if report_id in allowed else None
        if report is None:
            raise NotFound("this file was not handed over to the attempt")
        return site.blobs.chunks(report.blob)


def record_step(site: Site, attempt_id: int, token: str, step: dict[str, Any]) -> None:
    """Keep what a runner says of a step: at its start and again at its end."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        if attempt.started_at is None and step.get("started_at") is not None:
            attempt.started_at = step["started_at"]
        step = {k: v.replace("\0", "") if isinstance(v, str) else v for k, v in step.items()}
        values = {"attempt_id": attempt_id, **step}
        session.execute(
            insert(Step).values(**values).on_conflict_do_update(index_elements=["attempt_id", "position"], set_=step)
        )
        tell_run(session, attempt, "cell")


def keep_log(site: Site, attempt_id: int, token: str, offset: int, data: bytes, at: datetime | None = None) -> int:
    """Keep a piece of log, printed `at` a time, at its offset; the size known so far."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token, lock=True)
        before = attempt.log_size
        size = logs.take_in(site, session, attempt, offset, data, at)
        if size > before:
            tell_run(session, attempt, "log")
        return size


def keep_record(site: Site, attempt_id: int, token: str, kind: str, data: bytes) -> None:
    """Keep what a runner tells of an attempt beside its steps, as JSON; the newest word counts. Raises BadInput."""
    try:
        content = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise BadInput(f"the record is not JSON: {error}") from error
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        _keep_record(session, attempt_id, kind, content)
        tell_run(session, attempt, "cell")


def _kept(content: Any) -> Any:
    """What PostgreSQL can keep of it: no zero bytes."""
    return json.loads(json.dumps(content, default=str).replace("\\u0000", ""))


def _keep_record(session: Session, attempt_id: int, kind: str, content: Any) -> None:
    values = {"attempt_id": attempt_id, "kind": kind, "content": _kept(content)}
    session.execute(
        insert(AttemptRecord).values(**values).on_conflict_do_update(index_elements=["attempt_id", "kind"], set_=values)
    )


def find_cache(site: Site, attempt_id: int, token: str, name: str, parts: Mapping[str, Any]) -> caching.CacheAnswer:
    with site.store.transaction() as session:
        return caching.find_cache(session, held(session, attempt_id, token), name, parts)


def cache_archive(site: Site, attempt_id: int, token: str, entry: int) -> Iterable[bytes]:
    with site.store.transaction() as session:
        return caching.cache_archive(site, session, held(session, attempt_id, token), entry)


def keep_cache(
    site: Site, attempt_id: int, token: str, name: str, told: Mapping[str, Any], chunks: Iterable[bytes], digest: str
) -> str:
    with site.store.transaction() as session:
        held(session, attempt_id, token)
    return caching.keep_cache(site, attempt_id, name, told, chunks, digest)


def keep_part(site: Site, attempt_id: int, token: str, number: int, part: int, data: bytes) -> None:
    """Keep a part of a long report until all of them are there; the same part again changes nothing."""
    with site.store.transaction() as session:
        held(session, attempt_id, token)
    site.blobs.put(f"parts/{attempt_id}/{number:04d}/{part:05d}", [data])


def parts_of(site: Site, attempt_id: int, number: int, parts: int) -> Iterable[bytes]:
    """The parts of a long report one after another. Raises BadInput when one is missing."""
    for part in range(parts):
        try:
            yield from site.blobs.chunks(f"parts/{attempt_id}/{number:04d}/{part:05d}")
        except FileNotFoundError as error:
            raise BadInput(f"part {part} of the report is missing", "send it again") from error


def forget_parts(site: Site, attempt_id: int, number: int, parts: int) -> None:
    for part in range(parts):
        site.blobs.remove(f"parts/{attempt_id}/{number:04d}/{part:05d}")


def keep_report(
    site: Site, attempt_id: int, token: str, described: dict[str, Any], chunks: Iterable[bytes], digest: str
) -> None:
    """Keep a raw report; its bytes must have the digest (SHA-256) that the runner computed."""
    with site.store.transaction() as session:
        held(session, attempt_id, token)
    key = f"reports/{attempt_id}/{described['number']:04d}"
    size = take_file(site, key, chunks, digest, MOST_REPORT_BYTES, "a report")
    with site.store.transaction() as session:
        held(session, attempt_id, token, lock=True)
        values = {"attempt_id": attempt_id, **described, "digest": digest, "size": size, "blob": key}
        session.execute(
            insert(Report).values(**values).on_conflict_do_update(index_elements=["attempt_id", "number"], set_=values)
        )


def finish(site: Site, attempt_id: int, token: str, said: dict[str, Any]) -> None:
    """A runner is done; its reports are read next. Only then has the attempt an outcome."""
    with site.store.transaction() as session:
        attempt = session.get(Attempt, attempt_id, with_for_update=True)
        if attempt is not None and attempt.state == "reading" and attempt.lease_digest == lease_digest(token):
            return  # the answer to the first time was lost
        attempt = held(session, attempt_id, token, lock=True)
        record = said.pop("record", {})
        said = _kept(said)
        for kind, content in record.items():
            _keep_record(session, attempt_id, kind, content)
        attempt.state, attempt.finish, attempt.ended_at = "reading", said, func.now()
        attempt.runtimes = said.get("runtimes", {})
        defer(session, "ingest", lock=f"attempt-{attempt_id}", priority=5, attempt_id=attempt_id)
        ring_runners(session)
        tell_run(session, attempt, "cell")
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
