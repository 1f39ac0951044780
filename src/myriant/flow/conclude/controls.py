"""Control runs are called for: newly failing tests repeated here and on the gate baseline."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from sqlalchemy import ColumnElement, and_, delete, select
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import CellComparison, CellName
from myriant.store.changes import ring_runners
from myriant.store.tables import Cell, Control, Run

MOST_CELLS = 3  # of a run that are repeated


LONGEST = 15 * 60.0  # seconds that a repeated cell may be predicted to take


def plan_controls(session: Session, run: Run, baseline: Run | None, new: Mapping[CellName, CellComparison]) -> None:
    """Repeat the fewest cells that together hold every newly failing test.

    A run that is judged again, as one is that was held early, keeps what has begun and plans the rest.
    """
    if run.event not in ("push", "pull-request", "tag", "schedule") or run.wish.get("control") is False:
        return
    begun = set(session.scalars(select(Control.cell_id).where(_of_run(run), Control.state != "waiting")))
    session.execute(delete(Control).where(_of_run(run), Control.state == "waiting", Control.cell_id.not_in(begun)))
    cells = {(c.job, c.key): c for c in session.scalars(select(Cell).where(Cell.run_id == run.id))}
    left = {name: np.flatnonzero(found.new) for name, found in new.items() if found.new.any() and name in cells}
    for name in [n for n in left if cells[n].id in begun]:
        covered = left.pop(name, np.zeros(0, np.int64))
        left = {n: rest for n, t in left.items() if len(rest := np.setdiff1d(t, covered))}
    for _ in range(MOST_CELLS - len(begun)):
        able = {n: t for n, t in left.items() if (cells[n].predicted or 0) <= LONGEST and not cells[n].gated}
        if not able:
            break
        name = max(sorted(able), key=lambda n: len(able[n]))
        covered = left.pop(name)
        left = {n: rest for n, t in left.items() if len(rest := np.setdiff1d(t, covered))}
        cell = cells[name]
        session.add(
            Control(run_id=run.id, cell_id=cell.id, place="here", commit=run.tested or run.commit, state="waiting")
        )
        if baseline is not None:
            commit = baseline.tested or baseline.commit
            session.add(Control(run_id=run.id, cell_id=cell.id, place="baseline", commit=commit, state="waiting"))
    session.flush()
    ring_runners(session)


def _of_run(run: Run) -> ColumnElement[bool]:
    return and_(Control.run_id == run.id, Control.place != "search")
