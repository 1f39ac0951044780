"""From a push to the start of its first step, on the idle demo, by the hook."""

from __future__ import annotations

import time
from datetime import UTC, datetime

from tests.bench.measure import report
from tests.bench.place import installed

from myriant.demo.load import load_demo
from myriant.demo.scenario import push
from myriant.flow.site import Site
from myriant.flow.views.desk.page import load_now
from myriant.flow.views.desk.projects import project_line
from myriant.flow.views.evidence.attempt import attempt_view
from myriant.flow.views.run.page import run_view


def measure(samples: int = 15) -> None:
    with installed() as installation:
        site, demo = installation.site, installation.place.demo
        assert site is not None
        load_demo(site, demo, [], lambda _: None, commits=3)
        waited, pushed = [], []
        for number in range(samples + 1):
            _idle(site)
            begun = datetime.now(UTC)
            push(demo, "fix")
            pushed.append((datetime.now(UTC) - begun).total_seconds())
            newest = project_line(site, "lockstep").newest
            assert newest is not None
            while True:
                starts = [
                    s.started_at
                    for c in run_view(site, "lockstep", newest.number).cells
                    if c.attempt_id
                    for s in attempt_view(site, c.attempt_id).steps
                    if s.started_at
                ]
                if starts:
                    break
                time.sleep(0.02)
            if number:  # the first warms up
                waited.append((min(starts) - begun).total_seconds())
        report("push to the first step's start, by hook", waited, "s", includes="the commit and the push themselves")
        report("of that, the commit and the push", pushed[1:], "s")


def _idle(site: Site) -> None:
    while True:
        pulse = load_now(site)
        if pulse.running + pulse.waiting == 0:
            time.sleep(0.5)
            return
        time.sleep(0.05)
