"""What a step's reports say to the runner: which tests failed, whether a retest mended them, whether all that failed
is set aside, so that the later steps run.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from myriant.core.gate.aside import StepResults, not_aside
from myriant.core.states import Content
from myriant.runner import retest
from myriant.runner.attempt.collecting import Kept, forget
from myriant.runner.attempt.ground import Ground
from myriant.runner.attempt.sending import Sender
from myriant.runner.client import Refused
from myriant.runner.porter import time_mark
from myriant.runner.porter_stream import Found, Taken
from myriant.runner.process import Ended
from myriant.wire.lease import StepWish

MOST_RETESTED = 500  # failed tests; more than that is no accident
Execute = Callable[[StepWish, float, "str | list[str] | None", "Mapping[str, str] | None"], Ended]


@dataclass(slots=True)
class Results:
    """By key, what the reports of one step hold."""

    present: set[str] = field(default_factory=set)
    failed: list[retest.FailedTest] = field(default_factory=list)
    flaky: set[str] = field(default_factory=set)


class Judge:
    def __init__(self, ground: Ground, sender: Sender, execute: Execute) -> None:
        self.ground, self.sender, self.execute = ground, sender, execute

    @property
    def reads(self) -> bool:
        """Whether the runner has to know what the reports hold."""
        return self.ground.lease.retries > 0 or bool(self.ground.lease.aside)

    def settle(self, position: int, step: StepWish, kept: Kept, ended: Ended, ends: float) -> str | None:
        """Run failed tests again; then why the step has not ended well, empty when all that failed is set aside.

        None where a failure of its own explains it, or nothing failed.
        """
        ground = self.ground
        results = self._results(kept)
        failed = results.failed
        for number in range(1, ground.lease.retries + 1):
            if not 0 < len(failed) <= MOST_RETESTED or ended.status == 0 or ground.stopped.is_set():
                break
            ground.say(f"retest {number} of {len(failed)} failed tests")
            before = {t["key"] for t in failed}
            failed = self._retest(position, step, number, failed, ends)
            results.flaky |= before - {t["key"] for t in failed}
            ground.said.retested = number
        if ended.status == 0 or ground.stopped.is_set():
            return None
        told = StepResults({t["key"] for t in failed}, results.flaky, results.present)
        if not told.failing and not told.flaky:
            return None
        statuses = ground.lease.statuses.get(step.name, [])
        why = not_aside(ended.status, told, set(ground.lease.aside), statuses, None)
        if why != "":
            return why
        return not_aside(ended.status, told, set(ground.lease.aside), statuses, self._expected(position))

    def _results(self, kept: Kept) -> Results:
        results = Results()
        for kind, report in kept:
            found = self._read(report, kind)
            results.present |= found.present
            results.failed += found.failed
        return results

    def _read(self, report: Found, kind: str) -> retest.Told:
        lease = self.ground.lease
        return retest.read(report.copy, kind, lease.job, self.ground.porter.locate)

    def _expected(self, position: int) -> set[str] | None:
        try:
            tests = self.ground.server.expected(self.ground.lease, position)
        except Refused as error:
            self.ground.say(f"the tests of the baseline cannot be learned: {error}")
            return None
        return None if tests is None else set(tests)

    def _retest(
        self, position: int, step: StepWish, number: int, failed: Sequence[retest.FailedTest], ends: float
    ) -> list[retest.FailedTest]:
        """Run failed tests once more; those that failed again, or gave no result."""
        ground = self.ground
        more, command = {}, None
        if step.retest is not None:
            command = step.retest.command
            given = ground.room.give(f"retest-{number}", retest.listed(failed, step.retest.each))
            more["MYRIANT_RETEST"] = given if ground.sandbox.bubblewrap else str(ground.room.given / f"retest-{number}")
        since = time_mark(ground.room.base)
        self.execute(step, max(ends, time.monotonic()), command, more)
        still: list[Found] = []
        passed: set[str] = set()
        globs = [glob for collect in step.collect for glob in retest.beside(collect.tests)]
        taken = ground.porter.take(globs, since, ground.room.base / "reports")
        for collect in step.collect:
            mine: list[Found] = []
            for glob in retest.beside(collect.tests):
                for report in taken.pop(glob, Taken()).found:
                    if any(report.path == s.path for s in (*still, *mine)):
                        report.copy.unlink()
                        continue
                    ground.masker.mask_file(report.copy)
                    mine.append(report)
            for report in mine:
                told = self._read(report, collect.kind)
                passed |= told.passed - {t["key"] for t in told.failed}
            self.sender.send(mine, position, Content.RETEST, collect.kind)
            still += mine
        forget(still)
        return [t for t in failed if t["key"] not in passed]
