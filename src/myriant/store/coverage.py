"""Coverage: totals in rows, one packed vector for each file, by attempt and merged."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from hashlib import sha256

from sqlalchemy import ColumnElement, delete, func, insert, or_, select, tuple_
from sqlalchemy.dialects.postgresql import insert as upsert
from sqlalchemy.orm import Session

from myriant.core.coverage.model import FileCoverage, Totals
from myriant.core.coverage.packed import pack_file, unpack_file
from myriant.core.gate.contexts import EVIDENCE
from myriant.store.tables import Cell, CoverageFile, CoverageTotal, CoverageVector, Run, SourceFile

_VECTORS = 0x4D594356  # names the lock: vectors of coverage


def keep_coverage(
    session: Session, project_id: int, run_id: int, job: str, attempt_id: int | None, files: Mapping[str, FileCoverage]
) -> None:
    """Store the coverage of an attempt that has none yet; without attempt, a job's merged one in place of its last."""
    if attempt_id is None:
        merged = (CoverageTotal.run_id == run_id, CoverageTotal.job == job, CoverageTotal.attempt_id.is_(None))
        session.execute(delete(CoverageTotal).where(*merged))
    if not files:
        return
    totals = sum((f.totals for f in files.values()), Totals())
    row = CoverageTotal(
        run_id=run_id,
        job=job,
        attempt_id=attempt_id,
        **asdict(totals),
    )
    session.add(row)
    session.flush()
    ids = _file_ids(session, project_id, list(files))
    packed = {path: pack_file(file) for path, file in files.items()}
    digests = {path: sha256(data).digest() for path, data in packed.items()}
    _keep_vectors(session, project_id, {digests[path]: data for path, data in packed.items()})
    rows = []
    for path, file in files.items():
        whole = file.totals
        rows.append(
            {
                "total_id": row.id,
                "file_id": ids[path],
                "digest": digests[path],
                "lines_valid": whole.lines_valid,
                "lines_covered": whole.lines_covered,
            }
        )
    session.execute(insert(CoverageFile), rows)


def _keep_vectors(session: Session, project_id: int, vectors: Mapping[bytes, bytes]) -> None:
    """Keep those that are not there yet: most are those of the run before."""
    session.execute(select(func.pg_advisory_xact_lock_shared(_VECTORS)))  # none of them is removed before it is used
    digests = sorted(vectors)
    there = select(CoverageVector.digest).where(CoverageVector.project_id == project_id)
    known = set(session.scalars(there.where(CoverageVector.digest.in_(digests))))
    fresh = [{"project_id": project_id, "digest": d, "packed": vectors[d]} for d in digests if d not in known]
    for at in range(0, len(fresh), 1000):
        session.execute(upsert(CoverageVector).on_conflict_do_nothing(), fresh[at : at + 1000])


def forget_loose_vectors(session: Session, most: int) -> int:
    """Remove vectors that no file has any more; how many."""
    session.execute(select(func.pg_advisory_xact_lock(_VECTORS)))
    used = select(CoverageFile.digest).where(CoverageFile.digest == CoverageVector.digest)
    loose = select(CoverageVector.project_id, CoverageVector.digest).where(~used.exists()).limit(most)
    gone = delete(CoverageVector).where(tuple_(CoverageVector.project_id, CoverageVector.digest).in_(loose))
    return len(session.scalars(gone.returning(CoverageVector.digest)).all())


def shares_below(session: Session, runs: Sequence[int], folder: str, job: str) -> dict[int, tuple[int, int]]:
    """By run, the covered and coverable lines of the files of a folder ("": all), merged over a job's cells ("": all).

    Runs that were kept before files had totals are left out.
    """
    query = (
        select(CoverageTotal.run_id, func.sum(CoverageFile.lines_covered), func.sum(CoverageFile.lines_valid))
        .join(CoverageFile, CoverageFile.total_id == CoverageTotal.id)
        .join(SourceFile, SourceFile.id == CoverageFile.file_id)
        .where(CoverageTotal.run_id.in_(runs), CoverageTotal.job == job, CoverageTotal.attempt_id.is_(None))
        .where(CoverageFile.lines_valid.is_not(None))
        .group_by(CoverageTotal.run_id)
    )
    if folder:
        below = SourceFile.path.startswith(f"{folder.strip('/')}/", autoescape=True)
        query = query.where(or_(below, SourceFile.path == folder))
    return {run: (int(covered or 0), int(valid or 0)) for run, covered, valid in session.execute(query)}


def _file_ids(session: Session, project_id: int, paths: Sequence[str]) -> dict[str, int]:
    rows = select(SourceFile.path, SourceFile.id).where(SourceFile.project_id == project_id, SourceFile.path.in_(paths))
    ids = {row.path: row.id for row in session.execute(rows)}
    missing = sorted(set(paths) - set(ids))
    if missing:
        values = [{"project_id": project_id, "path": path} for path in missing]
        session.execute(upsert(SourceFile).values(values).on_conflict_do_nothing())
        ids = {row.path: row.id for row in session.execute(rows)}
    return ids


def coverage_files_of_attempts(
    session: Session, attempts: Sequence[int], path: str | None = None
) -> dict[int, dict[str, FileCoverage]]:
    """Coverage of whole attempts, or of one file in them, by attempt and path."""
    found: dict[int, dict[str, FileCoverage]] = {}
    for total, name, packed in _files(session, CoverageTotal.attempt_id.in_(attempts), path):
        found.setdefault(total.attempt_id or 0, {})[name] = unpack_file(packed)
    return found


def merged_coverage_of(
    session: Session, run_id: int, jobs: Sequence[str], path: str | None = None
) -> dict[str, dict[str, FileCoverage]]:
    """Merged coverage of a run's jobs, or of one file in them, by job and path."""
    found: dict[str, dict[str, FileCoverage]] = {}
    merged = CoverageTotal.attempt_id.is_(None) & (CoverageTotal.run_id == run_id) & CoverageTotal.job.in_(jobs)
    for total, name, packed in _files(session, merged, path):
        found.setdefault(total.job, {})[name] = unpack_file(packed)
    return found


def jobs_with_coverage(session: Session, run_id: int) -> set[str]:
    """The jobs of a run that have coverage; the empty one is all of them together."""
    merged = CoverageTotal.attempt_id.is_(None) & (CoverageTotal.run_id == run_id)
    return set(session.scalars(select(CoverageTotal.job).where(merged)))


def cells_with_coverage(session: Session, run_id: int, job: str) -> set[str]:
    """Keys of a job's binding cells that gave coverage."""
    query = select(Cell.key).join(CoverageTotal, CoverageTotal.attempt_id == Cell.attempt_id)
    return set(session.scalars(query.where(Cell.run_id == run_id, Cell.job == job, ~Cell.advisory)))


def is_measured_in_part(session: Session, run: Run, base: Run) -> bool:
    """Whether evidence has coverage of fewer cells than its baseline: their shares say nothing of each other."""
    if run.context != EVIDENCE:
        return False
    query = select(Cell.run_id, func.count(Cell.id.distinct())).join(
        CoverageTotal, CoverageTotal.attempt_id == Cell.attempt_id
    )
    query = query.where(Cell.run_id.in_((run.id, base.id)), ~Cell.advisory).group_by(Cell.run_id)
    count = {row[0]: row[1] for row in session.execute(query)}
    return count.get(run.id, 0) < count.get(base.id, 0)


def _files(
    session: Session, which: ColumnElement[bool], path: str | None
) -> Sequence[tuple[CoverageTotal, str, bytes]]:
    query = (
        select(CoverageTotal, SourceFile.path, CoverageVector.packed)
        .join(CoverageFile, CoverageFile.total_id == CoverageTotal.id)
        .join(SourceFile, SourceFile.id == CoverageFile.file_id)
        .join(
            CoverageVector,
            (CoverageVector.project_id == SourceFile.project_id) & (CoverageVector.digest == CoverageFile.digest),
        )
        .where(which)
    )
    if path is not None:
        query = query.where(SourceFile.path == path)
    return [(total, path, packed) for total, path, packed in session.execute(query)]


def coverage_totals_of(session: Session, runs: Sequence[int]) -> dict[tuple[int, str], Totals]:
    """Merged totals by run and job; the empty job is all of them together."""
    rows = session.scalars(
        select(CoverageTotal).where(CoverageTotal.run_id.in_(runs), CoverageTotal.attempt_id.is_(None))
    )
    return {(r.run_id, r.job): _totals(r) for r in rows}


def coverage_totals_of_attempts(session: Session, attempts: Sequence[int]) -> dict[int, Totals]:
    rows = session.scalars(select(CoverageTotal).where(CoverageTotal.attempt_id.in_(attempts)))
    return {r.attempt_id: _totals(r) for r in rows if r.attempt_id is not None}


def _totals(row: CoverageTotal) -> Totals:
    return Totals(*(getattr(row, f) for f in Totals.__dataclass_fields__))
