"""Pull requests that are, or were, tested together: how far it is, and what came of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.states import BatchState, Verdict
from myriant.core.written import counted, joined
from myriant.store.batches import batches_of, runs_of_batches
from myriant.store.tables import Batch, Run

MOST_SHOWN = 10


@dataclass(frozen=True, slots=True)
class BatchPull:
    number: int
    title: str
    state: str  # in, out
    why: str  # it is left out
    run: int | None  # that shows it


@dataclass(frozen=True, slots=True)
class BatchRun:
    number: int
    verdict: Verdict
    source: str  # which pull requests it is of
    sentence: str


@dataclass(frozen=True, slots=True)
class BatchView:
    number: int
    state: BatchState
    said: str
    target: str
    pulls: list[BatchPull]  # in the order given
    runs: list[BatchRun]  # oldest first
    merge: bool
    merged: str  # the commit that the target became
    by: str
    at: datetime
    ended_at: datetime | None


def batch_views(session: Session, project_id: int, most: int = MOST_SHOWN) -> list[BatchView]:
    """The newest first."""
    batches = batches_of(session, project_id, most)
    runs = runs_of_batches(session, [b.id for b in batches])
    return [_view(b, runs.get(b.id, [])) for b in batches]


def _view(batch: Batch, runs: Sequence[Run]) -> BatchView:
    out = {o["pull"]: o for o in batch.out}
    pulls = [
        BatchPull(
            a["pull"],
            a["title"],
            "out" if a["pull"] in out else "in",
            out.get(a["pull"], {}).get("why", ""),
            out.get(a["pull"], {}).get("run"),
        )
        for a in batch.asked
    ]
    told = [BatchRun(r.number, Verdict(r.verdict), r.source, r.sentence or r.reason) for r in runs]
    return BatchView(
        batch.number,
        batch.state,
        told_of_batch(batch, runs),
        batch.target,
        pulls,
        told,
        batch.merge,
        batch.merged,
        batch.by,
        batch.at,
        batch.ended_at,
    )


def told_of_batch(batch: Batch, runs: Sequence[Run]) -> str:
    """A batch in a sentence, while it is tested and after."""
    if batch.state is not BatchState.TESTING:
        return batch.said
    going = next((r for r in runs if r.ended_at is None), None)
    done = counted(sum(r.ended_at is not None for r in runs), "run")
    what = f"{going.source} are tested (#{going.number})" if going is not None else "the next run is planned"
    left = f"; left out so far: {joined([str(o['pull']) for o in batch.out])}" if batch.out else ""
    return f"{what[0].upper()}{what[1:]}, {done} before it{left}."
