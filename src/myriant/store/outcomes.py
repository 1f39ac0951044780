"""Questions about what was said of runs, in the order in which it was said."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from myriant.core.states import DECIDED, Verdict
from myriant.store.tables import Outcome, Run

KEPT = 20_000  # outcomes of a project


def remember_outcome(session: Session, run: Run) -> None:
    """Note what is said of a run now, unless it was said last; while it is undecided its words do not count."""
    last = session.scalars(select(Outcome).where(Outcome.run_id == run.id).order_by(Outcome.id.desc()).limit(1)).first()
    sentence = run.sentence or run.reason
    same = last is not None and last.verdict == run.verdict
    if same and last is not None and (run.verdict is Verdict.UNDECIDED or last.sentence == sentence):
        return
    row = Outcome(
        project_id=run.project_id, run_id=run.id, verdict=run.verdict, news=_news(session, run), sentence=sentence
    )
    session.add(row)
    session.flush()
    if row.id % 500 == 0:
        forget_oldest(session, run.project_id)


def _news(session: Session, run: Run) -> str:
    """What changed in the run's context since an outcome was decided there last."""
    if run.verdict not in DECIDED:
        return ""
    query = select(Outcome.verdict).join(Run, Run.id == Outcome.run_id).where(Outcome.project_id == run.project_id)
    query = query.where(Run.context == run.context, Outcome.verdict.in_(DECIDED))
    before = session.scalar(query.order_by(Outcome.id.desc()).limit(1))
    if run.verdict is Verdict.HELD:
        return "" if before is Verdict.HELD else "held"
    return "cleared" if before is Verdict.HELD else ""


def outcomes_after(session: Session, project_id: int, after: int, most: int) -> Sequence[tuple[Outcome, Run]]:
    """What was said after an outcome, the oldest first."""
    query = select(Outcome, Run).join(Run, Run.id == Outcome.run_id)
    query = query.where(Outcome.project_id == project_id, Outcome.id > after)
    return [(o, r) for o, r in session.execute(query.order_by(Outcome.id).limit(most))]


def newest_outcomes(session: Session, project_id: int, context: str, most: int) -> Sequence[tuple[Outcome, Run]]:
    """The newest decided outcomes of a context, newest first; of every context where none is named."""
    query = select(Outcome, Run).join(Run, Run.id == Outcome.run_id)
    query = query.where(Outcome.project_id == project_id, Outcome.verdict.in_(DECIDED))
    if context:
        query = query.where(Run.context == context)
    return [(o, r) for o, r in session.execute(query.order_by(Outcome.id.desc()).limit(most))]


def forget_oldest(session: Session, project_id: int) -> None:
    """Keep so many outcomes of a project."""
    mine = select(Outcome.id).where(Outcome.project_id == project_id).order_by(Outcome.id.desc())
    newest_forgotten = session.scalar(mine.offset(KEPT).limit(1))
    if newest_forgotten is not None:
        session.execute(delete(Outcome).where(Outcome.project_id == project_id, Outcome.id <= newest_forgotten))
