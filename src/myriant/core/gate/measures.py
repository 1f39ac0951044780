"""Measures: the numbers that rules are about, by job."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from fractions import Fraction

from myriant.core.diagnosis.compare import CellComparison, CellName, RunOutcomes, Tally, tally

JobMeasures = Mapping[str, int]


def tally_of_job(current: RunOutcomes, cells: Mapping[CellName, CellComparison], job: str) -> Tally:
    mine = {name: outcomes for name, outcomes in current.items() if name[0] == job}
    return tally(mine, {name: cells[name] for name in mine})


def sum_of(tallies: Iterable[Tally]) -> Tally:
    """A test belongs to one job, so counts add up."""
    total = Tally()
    for t in tallies:
        total = Tally(**{f: getattr(total, f) + getattr(t, f) for f in Tally.__dataclass_fields__})
    return total


def measures_of(counts: Tally) -> dict[str, int]:
    """The counts of a job by the names of their measures."""
    return {f.replace("_", ".", 1): getattr(counts, f) for f in Tally.__dataclass_fields__}


def value_of(jobs: Sequence[JobMeasures], measure: str) -> Fraction | None:
    """A measure over jobs; None where one of them, or all of them, has nothing that could be measured."""
    if not jobs:
        return None
    if measure == "tests.share-passed":
        return share_passed(jobs)
    if not all(measure in j for j in jobs):
        return None
    return Fraction(sum(j[measure] for j in jobs))


def share_passed(jobs: Iterable[JobMeasures]) -> Fraction | None:
    """Passed ÷ (passed + failed + errored); None where none of them ran."""
    every = list(jobs)
    passed = sum(j["tests.passed"] for j in every)
    ran = passed + sum(j["tests.failed"] + j["tests.errored"] for j in every)
    return Fraction(passed, ran) if ran else None
