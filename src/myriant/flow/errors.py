"""Errors that a caller can do something about."""

from __future__ import annotations

from myriant.store.engine import is_deadlock as is_deadlock  # for those who answer with errors


class FlowError(Exception):
    """Something was asked that cannot be done; `mend` says what would help."""

    kind = "refused"

    def __init__(self, message: str, mend: str = "") -> None:
        super().__init__(message)
        self.mend = mend


class NotFound(FlowError):
    kind = "not-found"


class Refused(FlowError):
    kind = "refused"


class Forbidden(FlowError):
    """Whoever asks is known, and may not."""

    kind = "forbidden"


class LeaseLost(FlowError):
    """The attempt is no longer this runner's: its lease ended, it was stopped, or it was given to another."""

    kind = "lease-lost"


class BadInput(FlowError):
    kind = "bad-input"


class Replaced(FlowError):
    """Another runner of the same name has taken this one's place."""

    kind = "replaced"
