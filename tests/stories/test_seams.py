"""Random stories over all features at once: no page fails, and no two places disagree.

The same stories each time, so that a change is judged by itself; `make bench` measures new ones.
"""

from __future__ import annotations

import os

import pytest
from hypothesis import HealthCheck, Phase, settings
from hypothesis.stateful import run_state_machine_as_test

from inprocess import Stories
from seams import Seams

pytestmark = pytest.mark.long


def test_no_page_fails_and_no_two_places_disagree_whatever_happens(world: Stories) -> None:
    Seams.world = world
    wanted = settings(
        max_examples=int(os.environ.get("MYRIANT_STORIES", "4")),
        stateful_step_count=6,
        deadline=None,
        derandomize=True,
        suppress_health_check=list(HealthCheck),
        database=None,
        phases=(Phase.generate,),
    )
    run_state_machine_as_test(Seams, settings=wanted)  # type: ignore[no-untyped-call]
    assert Seams.steps > 10 and Seams.asked > 200
