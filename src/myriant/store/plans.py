"""The texts of plans, once a digest."""

from __future__ import annotations

import hashlib

from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.store.tables import PlanText


def keep_plan_text(session: Session, source: bytes) -> str:
    """Keep the text of a plan; its digest."""
    digest = hashlib.sha256(source).hexdigest()
    text = source.decode("utf-8", "replace").replace("\0", "\N{SYMBOL FOR NULL}")
    session.execute(insert(PlanText).values(digest=digest, text=text).on_conflict_do_nothing())
    return digest


def plan_text(session: Session, digest: str | None) -> str:
    """The text of a plan, empty when there is none."""
    kept = session.get(PlanText, digest) if digest is not None else None
    return kept.text if kept is not None else ""
