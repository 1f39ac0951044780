"""Reports and other files of an attempt, kept as they come."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy.dialects.postgresql import insert

from myriant.flow.dispatch.handing import handed_to
from myriant.flow.dispatch.leases import held
from myriant.flow.errors import BadInput, NotFound
from myriant.flow.files import take_file
from myriant.flow.plans import job_of
from myriant.flow.site import Site
from myriant.store.tables import Cell, Report, Run

MOST_REPORT_BYTES = 1 << 30


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
