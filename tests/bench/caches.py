"""The demo's second run: the seconds that its cache won as the product reports them, checked with a clock of our own."""

from __future__ import annotations

import time
from pathlib import Path

from tests.bench.measure import report
from tests.bench.place import installed

from myriant.demo.load import load_demo
from myriant.demo.scenario import push
from myriant.flow.diagnose.record import record as _record
from myriant.flow.views.desk.projects import project_line
from myriant.flow.views.evidence.attempt import attempt_view
from myriant.flow.views.run.page import run_view

WHEELS = Path(__file__).parents[2] / ".setup/wheels"


def measure() -> None:
    with installed(slots=2, share=[WHEELS]) as installation:
        site = installation.site
        assert site is not None
        load_demo(site, installation.place.demo, [WHEELS], lambda _: None)
        steps = []
        for what in ("vanish", "uncover"):
            push(installation.place.demo, what)
            time.sleep(1)
            while (newest := project_line(site, "tidebook").newest) is None or newest.ended_at is None:
                time.sleep(0.1)
            cell = next(c for c in run_view(site, "tidebook", newest.number).cells if c.job == "year")
            assert cell.attempt_id is not None
            record = _record(site, cell.attempt_id)
            told = {s.name: s for s in attempt_view(site, cell.attempt_id).steps}
            seconds = {
                n: (s.ended_at - s.started_at).total_seconds() for n, s in told.items() if s.ended_at and s.started_at
            }
            steps.append((record.caches[0], seconds))
        (first, cold), (second, warm) = steps
        assert not first.found and second.found, (first, second)
        report("cache: seconds won, as told", [second.won or 0.0], "s", said=second.said, size=second.size)
        prepared = ("environment", "reference")
        checked = sum(cold[n] for n in prepared) - sum(warm[n] for n in prepared) - second.seconds
        report(
            "cache: seconds won, by the steps' own times",
            [checked],
            "s",
            cold=cold,
            warm=warm,
            unpacking=second.seconds,
        )
