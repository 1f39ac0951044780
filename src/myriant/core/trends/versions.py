"""What each value of a dimension found that no other did, and what it cost."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class CellTotal:
    """One cell of one run: which values it had, whether it newly failed, and its seconds."""

    run: int
    job: str
    values: Mapping[str, str]
    advisory: bool
    failed: bool
    seconds: float


@dataclass(frozen=True, slots=True)
class ValueRecord:
    job: str
    dimension: str
    value: str
    runs: int  # in which it ran
    failed: int  # runs in which a cell with it newly failed
    alone: int  # of these, runs in which no cell without it newly failed
    seconds: float
    share: float  # of the job's seconds
    advisory: bool  # in the newest run that has it
    breaks: int  # runs of the job in which any cell newly failed
    advice: str  # keep, nights, promote, or nothing that can be said


LEAST_RUNS = 20  # before anything is advised


def records(cells: Iterable[CellTotal]) -> list[ValueRecord]:
    """A record for each value of each dimension that has several, in the order of jobs, dimensions and values met.

    A break is a run of a job in which some cell newly failed. What a value alone found would have been missed without
    it in that run; whether a later run would have found it is another question.
    """
    every = list(cells)
    by_job: dict[str, list[CellTotal]] = {}
    for cell in every:
        by_job.setdefault(cell.job, []).append(cell)
    found = []
    for job, mine in by_job.items():
        total = sum(c.seconds for c in mine) or 1.0
        broken = {c.run for c in mine if c.failed}
        places: dict[tuple[str, str], list[CellTotal]] = {}
        for c in mine:
            for place in c.values.items():
                places.setdefault(place, []).append(c)
        several = {d for d, _ in places if sum(1 for other, _ in places if other == d) > 1}
        for (dimension, value), with_it in places.items():
            if dimension not in several:
                continue
            runs = {c.run for c in with_it}
            failed = {c.run for c in with_it if c.failed}
            elsewhere = {c.run for c in mine if c.failed and c.values.get(dimension) != value}
            seconds = sum(c.seconds for c in with_it)
            newest = max(with_it, key=lambda c: c.run)
            alone = len(failed - elsewhere)
            found.append(
                ValueRecord(
                    job, dimension, value, len(runs), len(failed), alone, seconds, seconds / total, newest.advisory,
                    len(broken), _advice(len(runs), len(failed), alone, len(broken), advisory=newest.advisory),
                )
            )  # fmt: skip
    return found


def _advice(runs: int, failed: int, alone: int, breaks: int, *, advisory: bool) -> str:
    if runs < LEAST_RUNS:
        return ""
    if advisory:
        return "promote" if failed == 0 else ""
    if alone > 0:
        return "keep"
    return "nights" if breaks >= 3 else ""
