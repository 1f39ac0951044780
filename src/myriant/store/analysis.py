"""Results of static analysis, by attempt."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import asdict

from sqlalchemy import insert, select
from sqlalchemy.orm import Session

from myriant.core.results.sarif import Marked
from myriant.store.tables import AnalysisResult


def keep_analysis(session: Session, attempt_id: int, results: Iterable[Marked]) -> None:
    """Store the results of an attempt that has none yet."""
    rows = [
        {
            "attempt_id": attempt_id,
            "key": r.key,
            "tool": _clean(r.tool),
            "rule": _clean(r.rule),
            "level": r.level,
            "path": _clean(r.path),
            "line": r.line,
            "message": _clean(r.message),
            "about": _clean(r.about),
            "suppressed": r.suppressed,
            "related": [{k: _clean(v) if isinstance(v, str) else v for k, v in asdict(p).items()} for p in r.related],
        }
        for r in results
    ]
    for at in range(0, len(rows), 1000):
        session.execute(insert(AnalysisResult), rows[at : at + 1000])


def analysis_of(session: Session, attempts: Sequence[int]) -> list[AnalysisResult]:
    """Every result of these attempts, in the order of path and line."""
    query = select(AnalysisResult).where(AnalysisResult.attempt_id.in_(attempts))
    return list(session.scalars(query.order_by(AnalysisResult.path, AnalysisResult.line, AnalysisResult.key)))


def _clean(text: str) -> str:
    return text.replace("\0", "\N{SYMBOL FOR NULL}").encode("utf-8", "replace").decode("utf-8")
