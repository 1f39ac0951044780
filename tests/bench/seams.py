"""The campaign over the seams: random stories until a time is over, what they found shrunk by Hypothesis."""

from __future__ import annotations

import json
import time
import traceback

from hypothesis import HealthCheck, settings
from hypothesis.stateful import run_state_machine_as_test

SECONDS = 600.0


def measure(seconds: float = SECONDS) -> None:
    from inprocess import one_story_world
    from seams import Seams

    wanted = settings(
        max_examples=5,
        stateful_step_count=10,
        deadline=None,
        suppress_health_check=list(HealthCheck),
        database=None,
        print_blob=True,
    )
    began, found = time.monotonic(), 0
    for world in one_story_world():
        Seams.world = world
        while time.monotonic() < began + seconds:
            try:
                run_state_machine_as_test(Seams, settings=wanted)  # type: ignore[no-untyped-call]
            except Exception:
                found += 1
                traceback.print_exc()
    told = {"steps": Seams.steps, "pages": Seams.asked, "seconds": round(time.monotonic() - began), "found": found}
    print(json.dumps({"measure": "seams", **told}), flush=True)
