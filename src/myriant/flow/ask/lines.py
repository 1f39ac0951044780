"""A run in one line; what lines of cells share."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime

from myriant.core.gate.word import Word
from myriant.core.states import EventKind, State, Verdict
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


def run_line(row: Run, word: Word | None = None) -> RunLine:
    """`word` is the commit's; the run's own verdict stands for it where only the run is asked about."""
    own = row.verdict if row.context else Verdict.NONE
    told = word or Word(own, row.context, row.number)
    return RunLine(
        row.number, row.commit, row.title, row.author, row.branch, row.tag, row.pull_request, row.event, row.context,
        row.state, own, told.verdict, told.context, told.number,
        f"{row.sentence or row.reason} {row.gated_said}".strip(), row.created_at, row.started_at, row.ended_at,
    )  # fmt: skip


def in_plan_order(key: str, values: Mapping[str, str]) -> dict[str, str]:
    """A cell's values in the order of its key, which is the plan's; the database keeps another."""
    at = {name: f",{key}".find(f",{name}=") for name in values}
    return {name: values[name] for name in sorted(values, key=lambda n: at[n])}
