"""What runs, cells, attempts and the rest may be, in words that are stored and shown alike."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import TypeVar


class State(StrEnum):
    """Of runs, jobs, cells, attempts and steps."""

    WAITING = "waiting"
    RUNNING = "running"
    READING = "reading"  # of attempts only: the runner is done, its reports are read
    PASSED = "passed"
    FAILED = "failed"
    VOID = "void"
    STOPPED = "stopped"
    SKIPPED = "skipped"


OPEN = (State.WAITING, State.RUNNING)
TRUSTED = (State.PASSED, State.FAILED)


class Verdict(StrEnum):
    CLEAR = "clear"
    HELD = "held"
    UNDECIDED = "undecided"
    EXEMPT = "exempt"
    NONE = "none"  # nothing was asked there, or it is evidence only


DECIDED = (Verdict.CLEAR, Verdict.HELD)


class Mark(StrEnum):
    """What a screen draws of a cell or test."""

    PASSED = "passed"
    NEW = "new"
    KNOWN = "known"
    FIXED = "fixed"
    CAME_BACK = "came-back"
    FLAKY = "flaky"
    FIRST = "first"  # failed, without an earlier result there
    VOID = "void"
    QUARANTINED = "quarantined"
    SKIPPED = "skipped"
    NOT_SELECTED = "not-selected"
    RUNNING = "running"
    WAITING = "waiting"
    STOPPED = "stopped"


class EventKind(StrEnum):
    PUSH = "push"
    PULL_REQUEST = "pull-request"
    TAG = "tag"
    SCHEDULE = "schedule"
    MANUAL = "manual"
    UPLOAD = "upload"


class Content(StrEnum):
    """Of a file that an attempt delivered."""

    TESTS = "tests"
    RETEST = "retest"
    COVERAGE = "coverage"
    ANALYSIS = "analysis"
    ATTACHMENT = "attachment"
    COMPANION = "companion"
    ARTIFACT = "artifact"
    HAND_OVER = "hand-over"


class Place(StrEnum):
    """Of a control run: what it repeats."""

    HERE = "here"
    BASELINE = "baseline"
    SEARCH = "search"


class ControlState(StrEnum):
    WAITING = "waiting"
    RUNNING = "running"
    DONE = "done"
    GIVEN_UP = "given-up"


class SearchState(StrEnum):
    RUNNING = "running"
    FOUND = "found"
    STOPPED = "stopped"
    GIVEN_UP = "given-up"


class ApprovalState(StrEnum):
    WAITING = "waiting"
    GIVEN = "given"
    REFUSED = "refused"
    LATE = "late"


class PullState(StrEnum):
    OPEN = "open"
    MERGED = "merged"
    CLOSED = "closed"


class Wants(StrEnum):
    """What of a project's news somebody hears by mail."""

    ALL = "all"
    MINE = "mine"  # what may be theirs
    NOTHING = "nothing"


class Page(StrEnum):
    """What a way tells at its times, in place of outcomes."""

    MORNING = "morning"
    REPORT = "report"


class BatchState(StrEnum):
    """Of several pull requests that are tested together."""

    TESTING = "testing"
    DONE = "done"
    STOPPED = "stopped"


class DeliveryState(StrEnum):
    """Of something that is told on a way."""

    WAITING = "waiting"
    SENT = "sent"
    KEPT = "kept"  # until those whom it is for want to hear
    ASIDE = "aside"  # it did not arrive, or is worth telling no more
    UNWANTED = "unwanted"  # news that the way is not about: only what comes next is told from it


class Role(StrEnum):
    """Of a person, each with the rights of those before it."""

    VIEWER = "viewer"
    MEMBER = "member"
    MAINTAINER = "maintainer"
    ADMIN = "admin"


class TokenKind(StrEnum):
    """A way in."""

    LINK = "link"  # signs in once
    SESSION = "session"  # of a browser
    COMMAND = "command"
    RUNNER = "runner"
    HOOK = "hook"


class Accepted(StrEnum):
    """What a person says may be so."""

    LOOSENED = "loosened"  # the plan asks less
    VANISHED = "vanished"
    NEWLY_SKIPPED = "newly-skipped"
    START = "start"  # what fails at a commit is known from then on


class Why(StrEnum):
    """Why a run or cell is as it is; its reason says the same in words."""

    NOTHING = ""
    PLAN = "plan"  # it cannot be used, or there is none
    COMMIT = "commit"  # it cannot be read
    CONFLICT = "conflict"
    NO_CELLS = "no-cells"
    NOT_ASKED = "not-asked"
    EXCUSED = "excused"  # nothing that its jobs watch differs from what has a clear result
    SUPERSEDED = "superseded"
    BY_PERSON = "by-person"
    STOPPED_EARLY = "stopped-early"
    AFTER = "after"  # what it waited for did not pass, or has not ended yet
    GATED = "gated"  # by the verdict
    APPROVAL = "approval"
    NOT_SELECTED = "not-selected"
    EXPECTATION = "expectation"
    SECRET = "secret"  # a reason, no password
    LOST = "lost"  # its runner
    MACHINE = "machine"
    REPORT = "report"
    STEP = "step"
    TESTS = "tests"
    SAME_CONTENT = "same-content"
    BROUGHT_ALONG = "brought-along"
    AGAIN = "again"


Moves = Mapping[State, frozenset[State]]

CELL_MOVES: Moves = {
    State.WAITING: frozenset(
        {State.RUNNING, State.PASSED, State.FAILED, State.VOID, State.STOPPED, State.SKIPPED}  # passed, failed: reused
    ),
    State.RUNNING: frozenset({State.WAITING, State.PASSED, State.FAILED, State.VOID, State.STOPPED}),
}
ATTEMPT_MOVES: Moves = {
    State.RUNNING: frozenset({State.READING, State.VOID, State.STOPPED}),
    State.READING: frozenset({State.PASSED, State.FAILED, State.VOID}),
}
RUN_MOVES: Moves = {
    State.WAITING: frozenset({State.RUNNING, State.PASSED, State.FAILED, State.VOID, State.STOPPED, State.SKIPPED}),
    State.RUNNING: frozenset({State.PASSED, State.FAILED, State.VOID, State.STOPPED, State.SKIPPED}),
}
CONTROL_MOVES: Mapping[ControlState, frozenset[ControlState]] = {
    ControlState.WAITING: frozenset({ControlState.RUNNING, ControlState.GIVEN_UP}),
    ControlState.RUNNING: frozenset({ControlState.DONE, ControlState.GIVEN_UP}),
}
SEARCH_MOVES: Mapping[SearchState, frozenset[SearchState]] = {
    SearchState.RUNNING: frozenset({SearchState.FOUND, SearchState.STOPPED, SearchState.GIVEN_UP}),
    SearchState.STOPPED: frozenset({SearchState.RUNNING}),
    SearchState.GIVEN_UP: frozenset({SearchState.RUNNING}),
}
PULL_MOVES: Mapping[PullState, frozenset[PullState]] = {
    PullState.OPEN: frozenset({PullState.MERGED, PullState.CLOSED}),
    PullState.CLOSED: frozenset({PullState.OPEN, PullState.MERGED}),
    PullState.MERGED: frozenset({PullState.OPEN}),  # its own ref moved again
}
BATCH_MOVES: Mapping[BatchState, frozenset[BatchState]] = {
    BatchState.TESTING: frozenset({BatchState.DONE, BatchState.STOPPED}),
}
DELIVERY_MOVES: Mapping[DeliveryState, frozenset[DeliveryState]] = {
    DeliveryState.WAITING: frozenset({DeliveryState.SENT, DeliveryState.KEPT, DeliveryState.ASIDE}),
    DeliveryState.ASIDE: frozenset({DeliveryState.WAITING}),
}


class Impossible(Exception):
    """A move that no table allows: a fault of ours, never of what came in."""


Kind = TypeVar("Kind", bound=StrEnum)


def check_move(what: str, moves: Mapping[Kind, frozenset[Kind]], now: Kind, then: Kind) -> None:
    """Raise Impossible when `what` cannot become `then` from `now`; staying is always allowed."""
    if then != now and then not in moves.get(now, frozenset()):
        raise Impossible(f"{what} cannot become {then} from {now}")
