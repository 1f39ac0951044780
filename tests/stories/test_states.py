"""What may become what: the tables are the docs, and no row of moves leads out of an end but by the named ways."""

from __future__ import annotations

import os
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule

from myriant.core import states
from myriant.core.states import OPEN, Impossible, Mark, State, Verdict, Why, check_move
from myriant.flow.state import attempts, cells, runs
from myriant.store.records import Counts, Finish
from myriant.store.tables import Attempt, Cell, Run

DOCS = Path(__file__).parents[2] / "docs/states.md"
TABLES: Mapping[str, Mapping[Any, frozenset[Any]]] = {
    "run": states.RUN_MOVES,
    "cell": states.CELL_MOVES,
    "attempt": states.ATTEMPT_MOVES,
    "control run": states.CONTROL_MOVES,
    "search": states.SEARCH_MOVES,
    "pull request": states.PULL_MOVES,
    "batch": states.BATCH_MOVES,
    "delivery": states.DELIVERY_MOVES,
}
BACK = "An end is left only by the named ways: a person wants it again (`cells.again`), more of it is sent (`cells.deliver_again`), its run opens with it (`runs.reopen`), late evidence or an acceptance has it judged again (`runs.conclude`)."


def table() -> str:
    lines = [
        "# What may become what",
        "",
        "Made by a test from `core/states.py`; `flow/state` holds the only functions that move anything.",
        BACK,
        "",
    ]
    for what, moves in TABLES.items():
        kinds = type(next(iter(moves)))
        lines += [f"## {what.capitalize()}", "", "| from | to |", "|---|---|"]
        lines += [
            f"| {now} | {', '.join(k for k in kinds if k in moves.get(now, ())) or 'an end'} |"
            for now in kinds
            if now in moves or any(now in to for to in moves.values())
        ] + [""]
    return "\n".join(lines)


def test_the_table_in_the_docs_is_current() -> None:
    if os.environ.get("MYRIANT_WRITE"):
        DOCS.write_text(table())
    assert DOCS.read_text() == table()


@pytest.mark.parametrize("what", TABLES)
def test_every_pair_of_states_is_allowed_or_refused_as_the_table_says(what: str) -> None:
    moves = TABLES[what]
    kinds = type(next(iter(moves)))
    for now in kinds:
        for then in kinds:
            if then == now or then in moves.get(now, ()):
                check_move(what, moves, now, then)
            else:
                with pytest.raises(Impossible, match=f"{what} cannot become {then} from {now}"):
                    check_move(what, moves, now, then)


class Moves(RuleBasedStateMachine):
    """A run with three cells, moved at random; what a function refuses leaves things as they were."""

    def __init__(self) -> None:
        super().__init__()
        self.run = Run(
            id=1, project_id=1, state=State.WAITING, verdict=Verdict.UNDECIDED, why=Why.NOTHING, reason="", sentence=""
        )
        self.cells = [
            Cell(
                id=i,
                state=State.WAITING,
                mark=Mark.WAITING,
                reason="",
                why=Why.NOTHING,
                ready=True,
                selected=True,
                counts=Counts(),
            )
            for i in range(3)
        ]
        self.attempts = [Attempt(id=10, number=1, state=State.RUNNING, reason="", cell_id=0)]
        self.ended: dict[int, State] = {}

    def tried(self, cell: Cell, move: Any) -> None:
        before = {c: getattr(cell, c) for c in ("state", "mark", "why", "reason", "attempt_id")}
        try:
            move()
        except Impossible:
            assert {c: getattr(cell, c) for c in before} == before
        self.ended.pop(cell.id, None)
        if State(cell.state) not in OPEN:
            self.ended[cell.id] = State(cell.state)

    @rule(
        i=st.integers(0, 2),
        end=st.sampled_from(["start", "end", "void", "skip", "stop", "wait_again", "take_over"]),
        state=st.sampled_from([State.PASSED, State.FAILED, State.VOID]),
    )
    def move_a_cell(self, i: int, end: str, state: State) -> None:
        cell, attempt = self.cells[i], self.attempts[-1]
        was = self.ended.get(i)
        moves = {
            "start": lambda: cells.start(cell, attempt),
            "end": lambda: cells.end(cell, state, "said so", Why.TESTS, {}),
            "void": lambda: cells.void(cell, Why.LOST, "lost"),
            "skip": lambda: cells.skip(cell, Why.AFTER, "after"),
            "stop": lambda: cells.stop(cell, Why.BY_PERSON, "by Ada"),
            "wait_again": lambda: cells.wait_again(cell, attempt, "lost"),
            "take_over": lambda: cells.take_over(cell, state, attempt.id, 1, Why.SAME_CONTENT, "same content as #1"),
        }
        self.tried(cell, moves[end])
        if was is not None:
            assert cell.state == was, f"{was} was left by {end}"

    @rule(i=st.integers(0, 2))
    def want_it_again(self, i: int) -> None:
        self.tried(self.cells[i], lambda: cells.again(self.cells[i], "Ada", ready=True))
        if self.run.ended_at is not None or State(self.run.state) not in OPEN:
            runs.reopen(self.run)

    @rule(state=st.sampled_from([State.READING, State.PASSED, State.FAILED, State.VOID]), fresh=st.booleans())
    def move_an_attempt(self, state: State, fresh: bool) -> None:
        if fresh:
            self.attempts.append(
                Attempt(id=10 + len(self.attempts), number=1, state=State.RUNNING, reason="", cell_id=0)
            )
        attempt = self.attempts[-1]
        was = State(attempt.state)
        try:
            if state is State.READING:
                attempts.deliver(attempt, Finish())
            else:
                attempts.end(attempt, state, "read")
        except Impossible:
            assert attempt.state == was
        else:
            assert was in states.ATTEMPT_MOVES or attempt.state == was

    @rule()
    def conclude(self) -> None:
        if all(State(c.state) not in OPEN for c in self.cells):
            runs.conclude(self.run, State.PASSED, Verdict.CLEAR, datetime.now(UTC))

    @rule()
    def start_or_supersede(self) -> None:
        runs.start(self.run)
        if any(State(c.state) is State.STOPPED for c in self.cells) and self.run.verdict == Verdict.UNDECIDED:
            runs.supersede(self.run, "#2 came")

    @invariant()
    def what_ended_says_why_and_is_drawn_as_it_is(self) -> None:
        for cell in self.cells:
            assert State(cell.state) in OPEN or cell.attempt_id is not None or cell.reason
            assert (cell.mark == cell.state) or (cell.state == State.FAILED and cell.mark == Mark.NEW)

    @invariant()
    def a_run_is_decided_only_with_all_its_cells(self) -> None:
        if self.run.verdict in states.DECIDED:
            assert all(State(c.state) not in OPEN for c in self.cells) and State(self.run.state) not in OPEN
        else:
            assert self.run.verdict == Verdict.UNDECIDED


TestMoves = Moves.TestCase
TestMoves.settings = settings(max_examples=150, stateful_step_count=30, deadline=None)
