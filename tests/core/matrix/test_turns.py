"""Turns: what most waits for comes first."""

from __future__ import annotations

import pytest

from myriant.core.matrix.turns import chains
from myriant.core.plan.read import read_plan


def plan_of(**after: str) -> bytes:
    """Jobs by what each waits for, in words."""
    jobs = "".join(
        f"[jobs.{name}]\nafter = [{', '.join(f'{job!r}' for job in waits.split())}]\n"
        f'[[jobs.{name}.steps]]\ncommand = "true"\n'
        for name, waits in after.items()
    )
    return f"version = 1\n{jobs}".encode()


@pytest.mark.parametrize(
    ("after", "seconds", "found"),
    [
        ({"a": "", "b": ""}, {"a": 5, "b": 7}, {"a": 0, "b": 0}),
        ({"a": "", "b": "a"}, {"a": 5, "b": 7}, {"a": 7, "b": 0}),
        ({"a": "", "b": "a", "c": "b"}, {"b": 7, "c": 2}, {"a": 9, "b": 2, "c": 0}),
        ({"a": "", "b": "a", "c": "a"}, {"b": 7, "c": 20}, {"a": 20, "b": 0, "c": 0}),  # the longest, not the sum
        ({"a": "", "b": "", "c": "a b"}, {"c": 4}, {"a": 4, "b": 4, "c": 0}),
        ({"a": "", "b": "a", "c": "a", "d": "c"}, {"b": 7, "c": 3, "d": 3}, {"a": 7, "b": 0, "c": 3, "d": 0}),
    ],
)
def test_a_job_counts_the_longest_chain_that_waits_for_it(
    after: dict[str, str], seconds: dict[str, float], found: dict[str, float]
) -> None:
    plan = read_plan(plan_of(**after)).plan
    assert plan is not None and chains(plan, seconds) == found
