"""Control runs go on until they say something: a cell is repeated again while its newly failing tests are unsure."""

from __future__ import annotations

from collections import Counter
from dataclasses import replace

from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import CellName
from myriant.core.diagnosis.control import MOST_REPEATS, wanted
from myriant.core.states import ControlState, Place, Verdict
from myriant.flow.conclude.controls import LONGEST
from myriant.flow.diagnose.beside import beside
from myriant.flow.diagnose.controls import answers, controls_of
from myriant.flow.site import Site
from myriant.store.cells import cells_of
from myriant.store.changes import ring_runners, tell_of_run
from myriant.store.controls import controls_of_run
from myriant.store.tables import Cell, Control, Project, Run


def repeat_controls(site: Site, run_id: int) -> None:
    """Look at what the control runs of a run say, and plan those that are still wanted. Safe to repeat."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id, with_for_update=True)
        if run is None or run.verdict != Verdict.HELD:
            return
        planned, said = _planned(session, run)
        if not planned and said is not None:
            run.measures = replace(run.measures, control=said)
        session.add_all(planned)
        if planned:
            session.flush()
            ring_runners(session)
            tell_of_run(session, run)


def _planned(session: Session, run: Run) -> tuple[list[Control], dict[str, int] | None]:
    """One more repeat of each cell that has none under way and some test of which more is to be known; and of how many
    tests they say what, once none goes on.
    """
    rows = controls_of_run(session, run.id)
    _, compared = beside(session, session.get_one(Project, run.project_id), run, None)
    cells = {(c.job, c.key): c for c in cells_of(session, run.id)}
    by_cell: dict[CellName, list[Control]] = {}
    for control, job, key in rows:
        by_cell.setdefault((job, key), []).append(control)
    new = {n: set(compared.cells[n].new.nonzero()[0].tolist()) for n in by_cell if n in compared.cells}
    told = answers(session, run, compared, controls_of(session, run), new)
    found: list[Control] = []
    for name, those in by_cell.items():
        cell = cells[name]
        under_way = any(c.state in (ControlState.WAITING, ControlState.RUNNING) for c in those)
        if under_way or (cell.predicted or 0) * len(those) > 2 * LONGEST or len(those) >= 2 * MOST_REPEATS:
            continue
        asked = [wanted(told[t]) for t in new.get(name, ()) if t in told]
        baseline = next((c.commit for c in those if c.place == Place.BASELINE), None)
        if any(here for here, _ in asked):
            found.append(_repeat(run, cell, Place.HERE, run.tested or run.commit))
        if baseline is not None and any(there for _, there in asked):
            found.append(_repeat(run, cell, Place.BASELINE, baseline))
    going = any(c.state in (ControlState.WAITING, ControlState.RUNNING) for c, _, _ in rows)
    unheard = len({t for tests in new.values() for t in tests} - set(told))
    said = Counter(a.said for a in told.values()) + Counter({"unsure": unheard})
    return found, None if going else dict(said)


def _repeat(run: Run, cell: Cell, place: Place, commit: str) -> Control:
    return Control(run_id=run.id, cell_id=cell.id, place=place, commit=commit, state=ControlState.WAITING)
