"""What a lease asks a runner to hold an attempt to."""

from __future__ import annotations

import pytest

from myriant.api.protocol.leases import _limits
from myriant.core.plan.model import Job, Limits


@pytest.mark.parametrize(
    ("asked", "most", "given"),
    [(None, "", None), (None, "0", None), (500, "", 500), (None, "900", 900), (500, "900", 500), (1500, "900", 900)],
)
def test_no_plan_is_given_more_memory_than_the_server_gives(
    monkeypatch: pytest.MonkeyPatch, asked: int | None, most: str, given: int | None
) -> None:
    monkeypatch.setenv("MYRIANT_MOST_MEMORY", most or "0")
    job = Job(id="unit", title="unit", vary={}, runtime=(), drop=(), steps=(), limits=Limits(memory=asked, processes=7))
    limits = _limits(job)
    assert (limits.memory, limits.processes) == (given, 7)
