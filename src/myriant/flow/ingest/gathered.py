"""What the reports of one attempt hold together."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from myriant.core.coverage.model import FileCoverage
from myriant.core.results.identity import Identity, identities
from myriant.core.results.model import Detail, Outcome, Results
from myriant.core.results.sarif import Marked

_BADNESS: Mapping[int, int] = {
    Outcome.ABSENT: 0, Outcome.SKIPPED: 1, Outcome.PASSED: 2, Outcome.FLAKY: 3, Outcome.ERRORED: 4, Outcome.FAILED: 5
}  # fmt: skip


@dataclass(slots=True)
class Gathered:
    """All results of one attempt, and what speaks against trusting it."""

    tests: list[Identity] = field(default_factory=list)
    outcomes: bytearray = field(default_factory=bytearray)
    seconds: list[float] = field(default_factory=list)
    details: dict[int, Detail] = field(default_factory=dict)
    untrusted: list[str] = field(default_factory=list)
    failing_steps: set[int] = field(default_factory=set)  # steps whose reports hold failures
    retests: list[tuple[str, Results]] = field(default_factory=list)  # with the kind
    coverage: list[Mapping[str, FileCoverage]] = field(default_factory=list)
    coverage_trouble: list[str] = field(default_factory=list)
    analysis: dict[str, Marked] = field(default_factory=dict)
    repeated: bool = False  # a test stands in two reports

    def add(self, kind: str, step: int, results: Results) -> None:
        at = len(self.tests)
        self.tests += identities(kind, results)
        self.outcomes += results.outcomes
        self.seconds += results.seconds[: len(results.outcomes)]
        for index, detail in results.details.items():
            self.details[at + index] = detail
        if results.count(Outcome.FAILED) or results.count(Outcome.ERRORED):
            self.failing_steps.add(step)

    def merge_repeated(self) -> None:
        """Reports of one attempt may name the same test: it is one test, and its worst outcome counts."""
        if not self.repeated:
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

    def settle_retests(self) -> None:
        """A test that both failed and passed within the attempt is flaky, whatever came last."""
        if not self.retests:
            return
        places: dict[Identity, int] = {}
        for at, identity in enumerate(self.tests):
            places.setdefault(identity, at)
        bad = (Outcome.FAILED, Outcome.ERRORED)
        for kind, results in self.retests:
            for identity, outcome in zip(identities(kind, results), results.outcomes, strict=True):
                found = places.get(identity)
                if found is None:
                    continue
                now, before = Outcome(outcome), Outcome(self.outcomes[found])
                if {now, before} & {Outcome.PASSED} and ({now, before} & set(bad)):
                    self.outcomes[found] = Outcome.FLAKY
                    self.details.setdefault(found, Detail("it failed when it was run again"))
