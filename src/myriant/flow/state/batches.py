"""What pull requests that are tested together may become."""

from __future__ import annotations

from datetime import UTC, datetime

from myriant.core.states import BATCH_MOVES, BatchState, check_move
from myriant.store.tables import Batch


def end(batch: Batch, state: BatchState, said: str) -> None:
    check_move(f"batch {batch.number}", BATCH_MOVES, BatchState(batch.state), state)
    batch.state, batch.said, batch.ended_at = state, said[:4000], datetime.now(UTC)
