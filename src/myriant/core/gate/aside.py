"""Set aside: whether a step that failed has ended well all the same, because all its failures are set aside.

The runner asks it before the later steps, the server asks it again of what it has read; both by this function.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Generic, TypeVar

from myriant.core.written import counted

Test = TypeVar("Test")
NO_TEST = "failed, and no test says why"
USUAL_STATUSES = frozenset({1})  # of a step whose failing tests are known from nowhere else


@dataclass(frozen=True, slots=True)
class StepResults(Generic[Test]):
    """What a step's reports hold, by test."""

    failing: Collection[Test]  # failed or errored, whatever came of a retest
    flaky: Collection[Test]  # of which a retest passed
    present: Collection[Test]


def not_aside(
    status: int | None,
    results: StepResults[Test],
    aside: Collection[Test],
    statuses: Collection[int],
    expected: Collection[Test] | None,
) -> str | None:
    """Why a failed step has not ended well; empty when it has, None when a failure of its own explains it.

    `aside` are tests whose failures hold nothing, `statuses` those with which the step ended before when tests
    failed, `expected` the tests that the baseline lists for it (None: nothing is known of it).
    """
    if any(test not in aside for test in results.failing):
        return None
    if not results.failing and not results.flaky:
        return NO_TEST
    allowed = set(statuses) or USUAL_STATUSES
    if status not in allowed:
        return f"ended with {status}, which is not how its tests fail"
    missing = len(set(expected) - set(results.present)) if expected is not None else 0
    return f"stopped before {counted(missing, 'of its tests', 'of its tests')}" if missing else ""
