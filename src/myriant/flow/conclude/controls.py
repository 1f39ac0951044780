"""Control runs are called for: newly failing tests repeated here and on the gate baseline."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import CellComparison, CellName
from myriant.core.states import ControlState, EventKind, Place
from myriant.store.cells import cells_of
from myriant.store.changes import ring_runners
from myriant.store.controls import cells_controlled, forget_waiting_controls
from myriant.store.tables import Control, Run

MOST_CELLS = 3  # of a run that are repeated


LONGEST = 15 * 60.0  # seconds that a repeated cell may be predicted to take


def plan_controls(
    session: Session, run: Run, baselines: Mapping[str, Run | None], new: Mapping[CellName, CellComparison]
) -> None:
    """Repeat the fewest cells that together hold every newly failing test.

    A run that is judged again, as one is that was held early, keeps what has begun and plans the rest.
    """
    if run.event in (EventKind.MANUAL, EventKind.UPLOAD):
        return
    begun = cells_controlled(session, run.id)
    forget_waiting_controls(session, run.id, begun)
    cells = {(c.job, c.key): c for c in cells_of(session, run.id)}
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
        wanted = [(Place.HERE, run.tested or run.commit)]
        baseline = baselines.get(cell.job)
        if baseline is not None:
            wanted.append((Place.BASELINE, baseline.tested or baseline.commit))
        session.add_all(
            Control(run_id=run.id, cell_id=cell.id, place=place, commit=commit, state=ControlState.WAITING)
            for place, commit in wanted
        )
    session.flush()
    ring_runners(session)
