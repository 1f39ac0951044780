"""What became of an attempt, from what its runner said and its reports hold."""

from __future__ import annotations

from collections.abc import Sequence

from myriant.core.written import counted


def attempt_outcome(untrusted: Sequence[str], unexplained: Sequence[str], failures: int) -> tuple[str, str]:
    """The state ("void", "failed" or "passed") and why.

    `untrusted` are reasons not to trust the result, `unexplained` names of steps that failed while no test
    says why, `failures` counts failed and errored tests. What cannot be trusted is void, whatever it holds.
    """
    if untrusted:
        return "void", "; ".join(untrusted)[:4000]
    if unexplained:
        return "failed", f"step {', '.join(unexplained)} failed, and no test says why"
    if failures:
        return "failed", f"{counted(failures, 'test')} failed"
    return "passed", ""
