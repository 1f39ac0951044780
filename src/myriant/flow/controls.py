"""Control runs: newly failing tests repeated here and on the gate baseline, to tell change, world and chance apart."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import numpy as np
from sqlalchemy import ColumnElement, and_, delete, select, update
from sqlalchemy.orm import Session

from myriant.core.diagnosis.compare import CellComparison, CellName
from myriant.core.results.model import Outcome
from myriant.core.results.packed import Outcomes
from myriant.store.changes import ring_runners, tell
from myriant.store.results import outcomes_of
from myriant.store.runs import WAITING
from myriant.store.tables import Attempt, Cell, Control, Project, Run

MOST_CELLS = 3  # of a run that are repeated
LONGEST = 15 * 60.0  # seconds that a repeated cell may be predicted to take
FRESH = timedelta(hours=6)
_BAD = (Outcome.FAILED, Outcome.ERRORED)


@dataclass(frozen=True, slots=True)
class ControlView:
    job: str
    key: str
    place: str  # here, baseline
    state: str
    attempt_id: int | None


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


def drop_stale_controls(session: Session) -> None:
    """Give up what found no free slot for hours: its answer would come too late."""
    runs = select(Run.id).where(Run.ended_at < datetime.now(UTC) - FRESH)
    session.execute(
        update(Control)
        .where(Control.state == "waiting", Control.place != "search", Control.run_id.in_(runs))
        .values(state="given-up")
    )


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


def control_ended(session: Session, attempt: Attempt) -> Control | None:
    """Note the end of an attempt that repeats a cell; the control run that it was, if any."""
    control = session.scalar(select(Control).where(Control.attempt_id == attempt.id).with_for_update())
    if control is None:
        return None
    control.state = "done" if attempt.state in ("passed", "failed") else "given-up"
    run = session.get_one(Run, control.run_id)
    tell(session, "run", session.get_one(Project, run.project_id).name, run.number)
    return control


def controls_of(session: Session, run: Run) -> list[ControlView]:
    rows = session.execute(
        select(Control, Cell.job, Cell.key).join(Cell, Cell.id == Control.cell_id).where(Control.run_id == run.id)
        .where(Control.place != "search").order_by(Control.id)
    )  # fmt: skip
    return [ControlView(job, key, c.place, c.state, c.attempt_id) for c, job, key in rows]


def answers(
    session: Session, controls: Sequence[ControlView], failed: Mapping[CellName, Collection[int]]
) -> dict[int, str]:
    """By test that failed in some cells, what the control runs of those cells say of it.

    "change" (the baseline passes today, or lacks it), "world" (it fails too) or "chance" (it passed here; one cell
    that says so is enough). A test without an answer yet is left out.
    """
    done = {(c.job, c.key, c.place): c.attempt_id for c in controls if c.state == "done" and c.attempt_id is not None}
    outcomes = outcomes_of(session, list(done.values()))
    found: dict[int, str] = {}
    for (job, key, place), attempt in done.items():
        if place != "here":
            continue
        base = outcomes.get(done.get((job, key, "baseline"), -1))
        for test in failed.get((job, key), ()):
            here = _outcome(outcomes[attempt], test)
            if here in (Outcome.PASSED, Outcome.FLAKY):
                found[test] = "chance"
            elif here in _BAD and base is not None and found.get(test) != "chance":
                there = _outcome(base, test)
                if there in _BAD:
                    found[test] = "world"
                elif there in (Outcome.PASSED, Outcome.ABSENT):
                    found[test] = "change"
    return found


def _outcome(outcomes: Outcomes, test: int) -> int:
    return int(outcomes[test]) if test < len(outcomes) else Outcome.ABSENT
