"""A run in one line; what lines of cells share."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.gate.sentence import left, progress
from myriant.core.gate.word import Word
from myriant.core.states import EventKind, State, Verdict
from myriant.store.cells import progress_of_runs
from myriant.store.tables import Run


@dataclass(frozen=True, slots=True)
class RunLine:
    """A run in one line: its own verdict in its context, and the word of its commit."""

    number: int
    commit: str
    title: str
    author: str
    branch: str
    tag: str
    pull_request: int | None
    event: EventKind
    context: str  # "push main"; empty: it is evidence only
    state: State
    verdict: Verdict
    word: Verdict
    word_context: str
    word_run: int  # the run whose verdict is the word
    sentence: str
    at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    took: float | None  # seconds from the first cell's start to the end, without the time between verdicts


def run_line(row: Run, word: Word | None = None, so_far: str = "") -> RunLine:
    """`word` is the commit's; the run's own verdict stands for it where only the run is asked about. `so_far` is how
    far it is, said while that changes.
    """
    own = row.verdict if row.context else Verdict.NONE
    told = word or Word(own, row.context, row.number)
    said = " ".join(s for s in (row.sentence or row.reason, so_far, row.gated_said) if s)
    return RunLine(
        row.number,
        row.commit,
        row.title,
        row.author,
        row.branch,
        row.tag,
        row.pull_request,
        row.event,
        row.context,
        row.state,
        own,
        told.verdict,
        told.context,
        told.number,
        said,
        row.created_at,
        row.started_at,
        row.ended_at,
        row.took,
    )


def so_far(session: Session, rows: Iterable[Run]) -> dict[int, str]:
    """By run that is tested now, of which nothing can be said yet or that is held early: how far it is."""
    open_ = {r.id: r for r in rows if r.ended_at is None and _is_open(r)}
    return {
        run: left(told[1] - told[0])
        if open_[run].verdict == Verdict.HELD
        else progress(*told, judged=bool(open_[run].context))
        for run, told in progress_of_runs(session, list(open_)).items()
    }


def _is_open(row: Run) -> bool:
    return row.verdict == Verdict.HELD or (row.verdict == Verdict.UNDECIDED and not row.sentence and not row.reason)


def said_of(row: Run, far: Mapping[int, str]) -> str:
    """A run's sentence, with how far it is while that changes."""
    return f"{row.sentence or row.reason} {far.get(row.id, '')}".strip()


def is_undecided(row: Run) -> bool:
    """Its cells still run or wait, and may yet clear it; what an earlier attempt measured is said no more."""
    return row.verdict == Verdict.UNDECIDED and row.ended_at is None


def jobs_told(row: Run) -> list[Mapping[str, int]]:
    """Each job's counts as they are said now: those that hold it while it is held early, none before."""
    told = row.measures.early if row.ended_at is None else row.measures.jobs
    return [] if is_undecided(row) else list(told.values())


def counted_in(row: Run | None, measure: str) -> int:
    """A count of distinct tests: a test belongs to one job, so the jobs' counts add up."""
    return sum(job.get(measure, 0) for job in jobs_told(row)) if row is not None else 0


def in_plan_order(key: str, values: Mapping[str, str]) -> dict[str, str]:
    """A cell's values in the order of its key, which is the plan's; the database keeps another."""
    at = {name: f",{key}".find(f",{name}=") for name in values}
    return {name: values[name] for name in sorted(values, key=lambda n: at[n])}
