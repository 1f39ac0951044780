"""Reports and other files of an attempt, kept as they come."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from myriant.core.states import Content
from myriant.flow.errors import BadInput, NotFound
from myriant.flow.files import take_file
from myriant.flow.handed_over import handed_to
from myriant.flow.plans import job_of
from myriant.flow.site import Site
from myriant.flow.state.leases import held
from myriant.store.attempts import keep_reports as keep
from myriant.store.tables import Cell, Report, Run

MOST_REPORT_BYTES = 1 << 30


def handed_file(site: Site, attempt_id: int, token: str, report_id: int) -> Iterable[bytes]:
    """The content of a file that was handed over to an attempt. Raises LeaseLost, NotFound."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        allowed = {h.report for h in handed_to(session, run, job_of(session, run, cell.job))}
        report = session.get(Report, report_id) if report_id in allowed else None
        if report is None:
            raise NotFound("this file was not handed over to the attempt")
        if not report.blob:
            raise NotFound(f"{report.path} is kept no longer; run the job that hands it over again")
        return site.blobs.chunks(report.blob)


def keep_part(site: Site, attempt_id: int, token: str, file: str, part: int, data: bytes) -> None:
    """Keep a part of a long file until all of them are there; the same part again changes nothing."""
    with site.store.transaction() as session:
        held(session, attempt_id, token)
    site.blobs.put(f"parts/{attempt_id}/{file}/{part:05d}", [data])


def parts_of(site: Site, attempt_id: int, file: str, parts: int) -> Iterable[bytes]:
    """The parts of a long file one after another. Raises BadInput when one is missing."""
    for part in range(parts):
        try:
            yield from site.blobs.chunks(f"parts/{attempt_id}/{file}/{part:05d}")
        except FileNotFoundError as error:
            raise BadInput(f"part {part} of the file is missing", "send it again") from error


def forget_parts(site: Site, attempt_id: int, file: str, parts: int) -> None:
    for part in range(parts):
        site.blobs.remove(f"parts/{attempt_id}/{file}/{part:05d}")


@dataclass(frozen=True, slots=True)
class Delivered:
    """A file as it came; a long one lies in `parts` already."""

    number: int
    step: int
    content: Content
    kind: str
    path: str
    digest: str  # SHA-256, as the runner computed it
    chunks: Sequence[bytes]
    parts: int = 0
    until: datetime | None = None  # the end of keeping


def keep_reports(site: Site, attempt_id: int, token: str, files: Sequence[Delivered]) -> None:
    """Keep raw files; their bytes must have the digests that the runner computed. Raises BadInput, LeaseLost."""
    with site.store.transaction() as session:
        held(session, attempt_id, token)
    rows = []
    for file in files:
        key, name = f"reports/{attempt_id}/{file.number:04d}", f"{file.number:04d}"
        whole = parts_of(site, attempt_id, name, file.parts) if file.parts else file.chunks
        size = take_file(site, key, whole, file.digest, MOST_REPORT_BYTES, "a report")
        rows.append(
            {
                "attempt_id": attempt_id,
                "number": file.number,
                "step": file.step,
                "content": file.content,
                "kind": file.kind,
                "path": file.path,
                "digest": file.digest,
                "size": size,
                "blob": key,
                "until": file.until,
            }
        )
    with site.store.transaction() as session:
        held(session, attempt_id, token, lock=True)
        keep(session, rows)
    for file in files:
        if file.parts:
            forget_parts(site, attempt_id, f"{file.number:04d}", file.parts)
