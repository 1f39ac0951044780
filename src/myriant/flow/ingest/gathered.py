"""What the reports of one attempt hold together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from myriant.core.coverage.model import FileCoverage
from myriant.core.gate.aside import StepResults
from myriant.core.results.identity import Identity, identities
from myriant.core.results.model import Detail, Outcome, Results
from myriant.core.results.sarif import Marked

_BADNESS: Mapping[int, int] = {
    Outcome.ABSENT: 0,
    Outcome.SKIPPED: 1,
    Outcome.PASSED: 2,
    Outcome.FLAKY: 3,
    Outcome.ERRORED: 4,
    Outcome.FAILED: 5,
}


BAD = (Outcome.FAILED, Outcome.ERRORED)


@dataclass(slots=True)
class Gathered:
    """All results of one attempt, and what speaks against trusting it."""

    tests: list[Identity] = field(default_factory=list)
    outcomes: bytearray = field(default_factory=bytearray)
    seconds: list[float] = field(default_factory=list)
    details: dict[int, Detail] = field(default_factory=dict)
    untrusted: list[str] = field(default_factory=list)
    by_step: dict[int, list[Identity]] = field(default_factory=dict)  # the tests in each step's reports
    retests: list[tuple[str, Results]] = field(default_factory=list)  # with the kind
    coverage: list[Mapping[str, FileCoverage]] = field(default_factory=list)
    coverage_trouble: list[str] = field(default_factory=list)
    analysis: dict[str, Marked] = field(default_factory=dict)

    def add(self, kind: str, step: int, results: Results) -> None:
        at = len(self.tests)
        mine = identities(kind, results)
        self.tests += mine
        self.outcomes += results.outcomes
        self.seconds += results.seconds[: len(results.outcomes)]
        for index, detail in results.details.items():
            self.details[at + index] = detail
        self.by_step.setdefault(step, []).extend(mine)

    def merge_repeated(self) -> None:
        """One name is one test, wherever it stands in the reports of an attempt: its worst outcome counts."""
        if len(set(self.tests)) == len(self.tests):
            return
        worst: dict[Identity, int] = {}
        for at, identity in enumerate(self.tests):
            other = worst.setdefault(identity, at)
            if _BADNESS[self.outcomes[at]] > _BADNESS[self.outcomes[other]]:
                worst[identity] = at
        kept = list(worst.values())
        self.tests = list(worst)
        self.details = {now: self.details[at] for now, at in enumerate(kept) if at in self.details}
        self.outcomes = bytearray(self.outcomes[at] for at in kept)
        self.seconds = [self.seconds[at] for at in kept]

    def step_results(self, numbers: Mapping[Identity, int]) -> dict[int, StepResults[int]]:
        """By step, what its reports hold once all is settled; `numbers` are the project's of the tests."""
        outcome = dict(zip(self.tests, self.outcomes, strict=True))
        found = {}
        for step, tests in self.by_step.items():
            mine = dict.fromkeys(tests)
            found[step] = StepResults(
                {numbers[t] for t in mine if outcome[t] in BAD},
                {numbers[t] for t in mine if outcome[t] == Outcome.FLAKY},
                {numbers[t] for t in mine},
            )
        return found

    def count(self, *outcomes: Outcome) -> int:
        return sum(self.outcomes.count(outcome) for outcome in outcomes)

    @property
    def ran(self) -> int:
        """Tests that passed, failed or errored."""
        return len(self.outcomes) - self.count(Outcome.SKIPPED, Outcome.ABSENT)

    def settle_retests(self) -> None:
        """A test that both failed and passed within the attempt is flaky, whatever came last."""
        if not self.retests:
            return
        places: dict[Identity, int] = {}
        for at, identity in enumerate(self.tests):
            places.setdefault(identity, at)
        for kind, results in self.retests:
            for identity, outcome in zip(identities(kind, results), results.outcomes, strict=True):
                found = places.get(identity)
                if found is None:
                    continue
                now, before = Outcome(outcome), Outcome(self.outcomes[found])
                if {now, before} & {Outcome.PASSED} and ({now, before} & set(BAD)):
                    self.outcomes[found] = Outcome.FLAKY
                    self.details.setdefault(found, Detail("it failed when it was run again"))
