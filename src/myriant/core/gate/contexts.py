"""Contexts: where a verdict holds. A commit is judged in each of them by itself; none stands in for another."""

from __future__ import annotations

from dataclasses import dataclass

from myriant.core.states import EventKind

BATCH = "batch-"  # pull requests that are tested together
EVIDENCE = ""  # of a run whose results are no verdict: a partial one by hand, an upload


@dataclass(frozen=True, slots=True)
class Context:
    """A push to a branch, a pull request, a tag, a schedule; written "push main", "pull-request 7"."""

    kind: EventKind
    name: str

    def __str__(self) -> str:
        return f"{self.kind} {self.name}"

    @property
    def said(self) -> str:
        """In words: "push to main", "pull request 7"."""
        match self.kind:
            case EventKind.PUSH:
                return f"push to {self.name}"
            case EventKind.PULL_REQUEST:
                return self.name.replace("-", " ") if self.name.startswith(BATCH) else f"pull request {self.name}"
            case kind:
                return f"{kind} {self.name}"


def of_batch(number: int) -> Context:
    return Context(EventKind.PULL_REQUEST, f"{BATCH}{number}")


def push_to(branch: str) -> Context:
    return Context(EventKind.PUSH, branch)


def parse_context(text: str) -> Context | None:
    """What `str` wrote; None for evidence, or what is no context."""
    kind, _, name = text.partition(" ")
    known = {EventKind.PUSH, EventKind.PULL_REQUEST, EventKind.TAG, EventKind.SCHEDULE}
    return Context(EventKind(kind), name) if name and kind in known else None
