"""Questions about control runs."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from myriant.store.runs import WAITING
from myriant.store.tables import Cell, Control


def waiting_controls(session: Session, offers: Sequence[str]) -> Sequence[Control]:
    """Control runs that a runner with these offers could start, oldest first, locked for this transaction."""
    return session.scalars(
        select(Control)
        .join(Cell, Cell.id == Control.cell_id)
        .where(Control.state == WAITING, Cell.wants.contained_by(list(offers)))
        .order_by(Control.id)
        .limit(4)
        .with_for_update(skip_locked=True, of=Control)
    ).all()
