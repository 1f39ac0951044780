"""What a run may become."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import datetime

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.states import OPEN, RUN_MOVES, State, Verdict, Why, check_move
from myriant.store.judged import newest_runs_beside
from myriant.store.queue import defer
from myriant.store.tables import Run

MOST_REASON = 4000
MOST_WEIGHED = 500  # commits of a branch or pull request that ends


def plan(run: Run) -> None:
    """Its cells are made and wait."""
    run.reason, run.why = "", Why.NOTHING


def start(run: Run) -> None:
    """The first of its cells runs, or has its result already."""
    if run.state == State.WAITING:
        _become(run, State.RUNNING)
        run.started_at = func.now()


def stop_unread(run: Run, reason: str) -> None:
    """A person wants nothing of it to run, and its cells are not made yet: they end when they are."""
    run.why, run.reason = Why.BY_PERSON, reason


def hold_untested(session: Session, run: Run, why: Why, reason: str) -> None:
    """Held without a result that could be trusted: nothing ran."""
    _become(run, State.VOID)
    run.verdict, run.why, run.reason = Verdict.HELD, why, reason[:MOST_REASON]
    run.sentence = f"Held: no trustworthy result; {reason[:1000]}."
    run.ended_at = func.now()
    call_for_announcement(session, run)


def not_asked(session: Session, run: Run, reason: str) -> None:
    """The plan asks for nothing here: no verdict, with the reason."""
    _become(run, State.SKIPPED)
    run.verdict, run.why, run.reason = Verdict.NONE, Why.NOT_ASKED, reason[:MOST_REASON]
    run.sentence = f"No verdict: {reason[:1000]}."
    run.ended_at = func.now()
    call_for_announcement(session, run)


def exempt(session: Session, run: Run, reason: str) -> None:
    """Jobs were asked, and each of them has a clear result on content that differs in nothing that it watches."""
    _become(run, State.SKIPPED)
    run.verdict, run.why, run.reason = Verdict.EXEMPT, Why.EXCUSED, reason[:MOST_REASON]
    run.sentence = f"Exempt: {reason[:1000]}."
    run.ended_at = func.now()
    call_for_announcement(session, run)


def lean(session: Session, run: Run, verdict: Verdict, reason: str) -> None:
    """An excused run says what the results say on which it stands: their word where they hold it, else exempt."""
    said = {Verdict.HELD: "Held", Verdict.UNDECIDED: "Undecided"}
    if verdict == Verdict.EXEMPT:
        run.verdict, run.sentence = verdict, f"Exempt: {run.reason[:1000]}."
    else:
        run.reason = run.reason or run.sentence.partition(": ")[2].removesuffix(".")
        run.verdict, run.why, run.sentence = verdict, Why.EXCUSED, f"{said[verdict]}: {reason[:1000]}."
    call_for_announcement(session, run)


def hold_early(run: Run) -> None:
    """Nothing that is left can clear it."""
    run.verdict, run.why, run.reason = Verdict.HELD, Why.NOTHING, ""


def conclude(run: Run, state: State, verdict: Verdict, at: datetime) -> None:
    """All that the verdict waits for has ended."""
    if State(run.state) in OPEN:
        _become(run, state)
    else:
        run.state = state  # judged again: a late result, or a person's acceptance
    run.verdict, run.why, run.reason = verdict, Why.NOTHING, ""
    run.ended_at = at if run.ended_at is None else run.ended_at


def supersede(run: Run, reason: str) -> None:
    """A newer event stopped it before it was judged: it stays undecided."""
    if State(run.state) in OPEN:
        _become(run, State.STOPPED)
    run.why, run.reason = Why.SUPERSEDED, reason
    run.ended_at = func.now() if run.ended_at is None else run.ended_at
    run.sentence = f"Undecided: {reason} before it was judged."


def reopen(run: Run) -> None:
    """Cells of it run again, or more of it was sent: the one way back."""
    if run.ended_at is not None:
        run.rested = Run.rested + func.extract("epoch", func.now() - run.ended_at)
    run.state, run.verdict, run.ended_at = State.RUNNING, Verdict.UNDECIDED, None
    run.sentence = run.reason = ""
    run.why = Why.NOTHING


def weigh_anew(session: Session, project_id: int, contexts: Collection[object]) -> None:
    """These contexts are over, or go on again: notes of commits of which others say something too are written anew."""
    if contexts:
        for run in newest_runs_beside(session, project_id, [str(c) for c in contexts], MOST_WEIGHED):
            _call_for_note(session, run)


def note_anew(session: Session, every: Iterable[Run]) -> None:
    """The notes on their commits are to be composed again: another project says nothing there any more."""
    for run in every:
        _call_for_note(session, run)


def call_for_announcement(session: Session, run: Run) -> None:
    _call_for_note(session, run)
    call_for_telling(session, run)


def _call_for_note(session: Session, run: Run) -> None:
    defer(session, "announce", lock=f"notes-{run.project_id}", run_id=run.id)


def call_for_telling(session: Session, run: Run) -> None:
    """What is said of it now is told where the project wants it; pending at once, its verdict when there is one."""
    defer(session, "tell", lock=f"tell-{run.project_id}", priority=5, run_id=run.id)


def call_for_conclusion(session: Session, run: Run, *, urgent: bool = False) -> None:
    defer(session, "conclude", lock=f"run-{run.id}", priority=5 if urgent else 0, run_id=run.id)


def _become(run: Run, then: State) -> None:
    check_move(f"run {run.id}", RUN_MOVES, State(run.state), then)
    run.state = then
