"""The fault campaign at length: parts killed at random moments, 200 runs; a table for docs/fault-campaign.md."""

from __future__ import annotations

import json
import os

from tests.bench.place import installed
from tests.campaign import campaign, tended


def measure(pushes: int = 290) -> None:
    os.environ["MYRIANT_POLL_SECONDS"] = "3"
    with installed(slots=4) as installation:
        stopping = tended(installation)
        tally = campaign(installation, installation.place.data, pushes, seed=7, pause=(2.0, 8.0))
        stopping.set()
    print(
        json.dumps(
            {
                "measure": "fault campaign",
                "pushes": tally.pushes,
                "runs": tally.runs,
                "kills": dict(tally.kills),
                "undecided": tally.undecided,
                "false clear": tally.false_clear,
                "false held": tally.false_held,
                "wrong results": tally.wrong_results,
                "doubled": tally.doubled,
                "lost logs": tally.lost_logs,
                "attempts": tally.attempts,
                "void attempts": tally.void_attempts,
                "seconds": round(tally.seconds),
                "told": tally.told[:20],
            }
        )
    )
