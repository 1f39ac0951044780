"""What became of an attempt, from what its runner said and its reports hold."""

from __future__ import annotations

from collections.abc import Sequence

from myriant.core.states import State
from myriant.core.written import counted


def attempt_outcome(untrusted: Sequence[str], unexplained: Sequence[str], failures: int) -> tuple[State, str]:
    """The state ("void", "failed" or "passed") and why.

    `untrusted` are reasons not to trust the result, `unexplained` steps that failed while no failure that holds
    the run says why, `failures` counts those failures. What cannot be trusted is void, whatever it holds.
    """
    if untrusted:
        return State.VOID, "; ".join(untrusted)[:4000]
    if unexplained:
        return State.FAILED, "; ".join(unexplained)[:4000]
    if failures:
        return State.FAILED, f"{counted(failures, 'test')} failed"
    return State.PASSED, ""
