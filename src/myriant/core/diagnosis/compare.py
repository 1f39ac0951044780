"""A run's results beside those of its baseline: new, known, first here, fixed.

Results come as one array of outcomes for each cell, indexed by the project's test numbers. Only cells
whose attempt can be trusted are given; a cell missing on one side is not comparable.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from myriant.core.results.model import Outcome
from myriant.core.results.packed import Outcomes

CellName = tuple[str, str]  # job id, cell key
RunOutcomes = Mapping[CellName, Outcomes]
Flags = NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class CellComparison:
    """Flags by test number. `first_here` marks failures in a cell without earlier result; they are new as well."""

    new: Flags
    known: Flags
    fixed: Flags
    first_here: bool
    quarantined: Flags  # failures that hold nothing: neither new nor known


def failing(outcomes: Outcomes) -> Flags:
    flags: Flags = (outcomes == Outcome.FAILED) | (outcomes == Outcome.ERRORED)
    return flags


def compare(
    current: RunOutcomes,
    baseline: RunOutcomes | None,
    since: Sequence[RunOutcomes] = (),
    quarantined: Sequence[int] = (),
) -> dict[CellName, CellComparison]:
    """Compare each cell with the same cell of the baseline.

    `since` are the runs after the baseline and before this one, the nearest first. What failed in the
    nearest that has this cell (else at the baseline) and passes now is fixed: so a repair is visible
    although the gate baseline never failed, and only in the run that brings it. Failures of `quarantined` tests
    stand apart.
    """
    aside = np.array(sorted(quarantined), np.int64)
    return {name: _compare_cell(name, outcomes, baseline, since, aside) for name, outcomes in current.items()}


def _compare_cell(
    name: CellName,
    now: Outcomes,
    baseline: RunOutcomes | None,
    since: Sequence[RunOutcomes],
    aside: NDArray[np.int64],
) -> CellComparison:
    before = baseline.get(name) if baseline is not None else None
    size = max([len(now), len(before) if before is not None else 0, *(len(r[name]) for r in since if name in r)])
    now = sized(now, size)
    fails = failing(now)
    kept = np.zeros(size, np.bool_)
    kept[aside[aside < size]] = True
    quarantined, fails = fails & kept, fails & ~kept
    nearest = next((run[name] for run in since if name in run), before)
    was_failing = failing(sized(nearest, size)) if nearest is not None else np.zeros(size, np.bool_)
    if before is None:
        none = np.zeros(size, np.bool_)
        return CellComparison(
            fails,
            none,
            was_failing & (now == Outcome.PASSED),
            baseline is not None,
            quarantined,
        )
    before = sized(before, size)
    known = fails & failing(before)
    return CellComparison(
        new=fails & ~known,
        known=known,
        fixed=was_failing & (now == Outcome.PASSED),
        first_here=False,
        quarantined=quarantined,
    )


def without_failures(run: RunOutcomes, tests: Sequence[int]) -> RunOutcomes:
    """A run in which these tests count as not run: what was set aside there makes no failure known."""
    if not tests:
        return run
    found = {}
    for name, outcomes in run.items():
        places = np.array([t for t in tests if t < len(outcomes)], np.int64)
        found[name] = outcomes.copy()
        found[name][places[failing(outcomes[places])]] = Outcome.SKIPPED
    return found


def renamed(run: RunOutcomes, pairs: Sequence[tuple[int, int]]) -> RunOutcomes:
    """An earlier run with the results of moved tests under their numbers now; `pairs` are (now, before)."""
    if not pairs:
        return run
    return {name: _renamed(outcomes, pairs) for name, outcomes in run.items()}


def _renamed(outcomes: Outcomes, pairs: Sequence[tuple[int, int]]) -> Outcomes:
    changed: Outcomes | None = None
    for now, before in sorted(pairs):
        here = outcomes if changed is None else changed
        if before < len(here) and here[before] != Outcome.ABSENT and (now >= len(here) or here[now] == Outcome.ABSENT):
            changed = sized(here, max(len(here), now + 1)).copy()
            changed[now], changed[before] = changed[before], Outcome.ABSENT
    return outcomes if changed is None else changed


def joined(one: Outcomes, other: Outcomes) -> Outcomes:
    """The results of two cells as those of one: of a test that both have, the first one's."""
    size = max(len(one), len(other))
    first, second = sized(one, size), sized(other, size)
    return np.where(first == Outcome.ABSENT, second, first).astype(np.uint8)


def with_earlier(newest: Outcomes, earlier: Sequence[Outcomes]) -> Outcomes:
    """The newest attempt's outcomes, with what earlier attempts of the cell, oldest first, still say.

    A test that failed there and passes now is flaky; one that is skipped or absent now disproves nothing: it fails.
    """
    size = max(len(newest), *(len(o) for o in earlier)) if earlier else len(newest)
    found = sized(newest, size).copy()
    worst = np.zeros(size, np.uint8)
    for outcomes in earlier:
        then = sized(outcomes, size)
        worst = np.where(failing(then), then, worst)
    failed = worst != Outcome.ABSENT
    found[failed & (found == Outcome.PASSED)] = Outcome.FLAKY
    silent = failed & ((found == Outcome.ABSENT) | (found == Outcome.SKIPPED))
    found[silent] = worst[silent]
    return found


def sized(array: Outcomes, size: int) -> Outcomes:
    if len(array) == size:
        return array
    out = np.zeros(size, np.uint8)
    out[: min(len(array), size)] = array[:size]
    return out


@dataclass(frozen=True, slots=True)
class Tally:
    """Counts of distinct tests (`tests`), and of tests × cells (`results`), over the cells given."""

    tests_total: int = 0
    tests_passed: int = 0
    tests_failed: int = 0
    tests_errored: int = 0
    tests_skipped: int = 0
    tests_new: int = 0
    tests_known: int = 0
    tests_fixed: int = 0
    tests_flaky: int = 0
    tests_quarantined: int = 0
    results_total: int = 0
    results_passed: int = 0
    results_failed: int = 0
    results_errored: int = 0
    results_skipped: int = 0
    results_flaky: int = 0
    results_quarantined: int = 0


def of_tests(
    current: RunOutcomes, comparison: Mapping[CellName, CellComparison], numbers: NDArray[np.int64]
) -> tuple[dict[CellName, Outcomes], dict[CellName, CellComparison]]:
    """The same, of some tests only: all others are absent."""

    def kept(size: int) -> Flags:
        flags = np.zeros(size, np.bool_)
        flags[numbers[numbers < size]] = True
        return flags

    outcomes = {name: np.where(kept(len(o)), o, Outcome.ABSENT).astype(o.dtype) for name, o in current.items()}
    cells = {
        name: replace(
            c, **{flag: getattr(c, flag) & kept(len(c.new)) for flag in ("new", "known", "fixed", "quarantined")}
        )
        for name, c in comparison.items()
    }
    return outcomes, cells


def tally(current: RunOutcomes, comparison: Mapping[CellName, CellComparison]) -> Tally:
    """Count a run: a test failed if it failed in some cell, errored if it errored in some and failed in none.

    A flaky result is its cell's last word "passed": it is counted as passed, and as flaky besides. A quarantined
    failure is counted as that alone.
    """
    size = max((len(c.new) for c in comparison.values()), default=0)
    ever = {outcome: np.zeros(size, np.bool_) for outcome in Outcome}
    flags = {name: np.zeros(size, np.bool_) for name in ("new", "known", "fixed", "quarantined")}
    totals = dict.fromkeys(Outcome, 0)
    for name, outcomes in current.items():
        counts = np.bincount(outcomes, minlength=len(Outcome))
        aside = comparison[name].quarantined[: len(outcomes)]
        for outcome in Outcome:
            here = (outcomes == outcome) & ~aside
            totals[outcome] += int(counts[outcome]) if not aside.any() else int(here.sum())
            ever[outcome][: len(outcomes)] |= here
        for flag, mask in flags.items():
            cell_mask: Flags = getattr(comparison[name], flag)
            mask[: len(cell_mask)] |= cell_mask
    well = ever[Outcome.PASSED] | ever[Outcome.FLAKY]
    quarantined = flags["quarantined"]
    present = quarantined | well | ever[Outcome.FAILED] | ever[Outcome.ERRORED] | ever[Outcome.SKIPPED]
    failed = ever[Outcome.FAILED]
    errored = ever[Outcome.ERRORED] & ~failed
    passed = well & ~failed & ~errored & ~quarantined
    return Tally(
        tests_total=int(present.sum()),
        tests_passed=int(passed.sum()),
        tests_failed=int(failed.sum()),
        tests_errored=int(errored.sum()),
        tests_skipped=int((present & ~failed & ~errored & ~passed & ~quarantined).sum()),
        tests_new=int(flags["new"].sum()),
        tests_known=int((flags["known"] & ~flags["new"]).sum()),
        tests_fixed=int((flags["fixed"] & ~failed & ~errored).sum()),
        tests_flaky=int((ever[Outcome.FLAKY] & ~failed & ~errored).sum()),
        tests_quarantined=int((quarantined & ~failed & ~errored).sum()),
        results_total=sum(n for o, n in totals.items() if o is not Outcome.ABSENT) + _count(comparison, "quarantined"),
        results_passed=totals[Outcome.PASSED] + totals[Outcome.FLAKY],
        results_failed=totals[Outcome.FAILED],
        results_errored=totals[Outcome.ERRORED],
        results_skipped=totals[Outcome.SKIPPED],
        results_flaky=totals[Outcome.FLAKY],
        results_quarantined=_count(comparison, "quarantined"),
    )


def _count(comparison: Mapping[CellName, CellComparison], flag: str) -> int:
    return sum(int(getattr(c, flag).sum()) for c in comparison.values())
