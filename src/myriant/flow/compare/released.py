"""What an approval is about."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.written import bytes_text
from myriant.store.releases import made_in
from myriant.store.tables import Run


def what_it_would_release(session: Session, run: Run) -> str:
    """What an approval of a run is about: the commit, and the files that were made of it, by their digests."""
    made = made_in(session, [run.id])
    files = ", ".join(f"{m.path} {m.digest[:12]} ({bytes_text(m.size)})" for m in made[:4])
    more = f" and {len(made) - 4} more" if len(made) > 4 else ""
    of = f"{run.tag or run.branch} at {run.commit[:12]}"
    return f"{of} with {files}{more}" if made else f"{of}, which made no artifact"
