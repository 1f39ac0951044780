"""Random stories over all features at once: no page fails, and no two places disagree."""

from __future__ import annotations

import os

from hypothesis import HealthCheck, settings
from hypothesis.stateful import run_state_machine_as_test

from inprocess import Stories
from seams import Seams


def test_no_page_fails_and_no_two_places_disagree_whatever_happens(world: Stories) -> None:
    Seams.world = world
    wanted = settings(
        max_examples=int(os.environ.get("MYRIANT_STORIES", "6")), stateful_step_count=8, deadline=None,
        suppress_health_check=list(HealthCheck), print_blob=True, database=None,
    )  # fmt: skip
    run_state_machine_as_test(Seams, settings=wanted)  # type: ignore[no-untyped-call]
    assert Seams.steps > 20 and Seams.asked > 200
