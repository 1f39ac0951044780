"""What each value of a dimension found that no other did, and what it cost."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class CellTotal:
    """One cell of one run: which values it had, whether a break began there (an advisory one: failed), its seconds."""

    run: int
    job: str
    values: Mapping[str, str]
    advisory: bool
    failed: bool
    seconds: float
    ended_failed: bool = False  # newly or as before


@dataclass(frozen=True, slots=True)
class ValueRecord:
    job: str
    dimension: str
    value: str
    runs: int  # in which it ran
    failed: int  # runs with a break in a cell with it; an advisory one: runs in which it failed at all
    alone: int  # of these, runs in which every other value of the dimension ran, and none of them showed it
    seconds: float
    share: float  # of the job's seconds
    advisory: bool  # in the newest run that has it
    breaks: int  # runs of the job in which something broke in a binding cell
    advice: str  # keep, nights, promote, or nothing that can be said


LEAST_RUNS = 20  # before anything is advised
LEAST_BREAKS = 3  # that could have shown it


def records(cells: Iterable[CellTotal]) -> list[ValueRecord]:
    """A record for each value of each dimension that has several, in the order of jobs, dimensions and values met.

    A break is a run of a job in which some test began to fail, and not by chance. What a value alone found would have
    been missed without it in that run; whether a later run would have found it is another question. Where a value of
    today did not run, nothing is known of it: no sample makes a break look like one value's own.
    """
    every = list(cells)
    by_job: dict[str, list[CellTotal]] = {}
    for cell in every:
        by_job.setdefault(cell.job, []).append(cell)
    found = []
    for job, mine in by_job.items():
        total = sum(c.seconds for c in mine) or 1.0
        broken = {c.run for c in mine if c.failed and not c.advisory}
        places: dict[tuple[str, str], list[CellTotal]] = {}
        for c in mine:
            for place in c.values.items():
                places.setdefault(place, []).append(c)
        values_of: dict[str, set[str]] = {}
        for dimension, value in places:
            values_of.setdefault(dimension, set()).add(value)
        several = {d for d, found_of in values_of.items() if len(found_of) > 1}
        newest_run = max(c.run for c in mine)
        today: dict[str, set[str]] = {}
        ran: dict[tuple[str, int], set[str]] = {}
        for c in mine:
            for dimension, value in c.values.items():
                ran.setdefault((dimension, c.run), set()).add(value)
                if c.run == newest_run:
                    today.setdefault(dimension, set()).add(value)
        for (dimension, value), with_it in places.items():
            if dimension not in several:
                continue
            runs = {c.run for c in with_it}
            failed = {c.run for c in with_it if c.failed}
            held = {c.run for c in with_it if c.failed and not c.advisory}
            others = today.get(dimension, set()) - {value}
            full = {run for run in held if others <= ran.get((dimension, run), set())}
            elsewhere = {c.run for c in mine if c.failed and not c.advisory and c.values.get(dimension) != value}
            seconds = sum(c.seconds for c in with_it)
            newest = max(with_it, key=lambda c: c.run)
            alone = len(full - elsewhere)
            told = sum(today.get(dimension, set()) <= ran.get((dimension, run), set()) for run in broken)
            found.append(
                ValueRecord(
                    job,
                    dimension,
                    value,
                    len(runs),
                    len(failed),
                    alone,
                    seconds,
                    seconds / total,
                    newest.advisory,
                    len(broken),
                    _advice(len(runs), len(failed), alone, told, advisory=newest.advisory),
                )
            )
    return found


def _advice(runs: int, failed: int, alone: int, told: int, *, advisory: bool) -> str:
    """`told`: breaks in which every value ran, so that what it found alone could be seen."""
    if runs < LEAST_RUNS:
        return ""
    if advisory:
        return "promote" if failed == 0 else ""
    if alone > 0:
        return "keep"
    return "nights" if told >= LEAST_BREAKS else ""
