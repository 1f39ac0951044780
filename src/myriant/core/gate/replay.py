"""Rules over the past: which earlier runs a plan's rules would have held, and how strict they could have been."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction

from myriant.core.gate.judge import Judged, Measured, judge_rules
from myriant.core.gate.measures import value_of
from myriant.core.plan.keys import SHARES
from myriant.core.plan.model import Rule
from myriant.core.states import Verdict


@dataclass(frozen=True, slots=True)
class Past:
    """What is kept of a decided run: counts by job, exact shares by measure and job ("": all), its baseline.

    `built_in` names the built-in rules that held it: a draft's own rules come beside them.
    """

    number: int
    verdict: Verdict
    jobs: Mapping[str, Mapping[str, int]]
    shares: Mapping[str, Mapping[str, Fraction]]  # by measure
    changed: Fraction | None
    seconds: Fraction | None
    baseline: int | None
    built_in: Sequence[str] = ()


@dataclass(frozen=True, slots=True)
class Replayed:
    """What a run would have been said to be. `untold` are rules whose measure is not kept of past runs."""

    number: int
    before: Verdict
    now: Verdict
    holding: list[str]
    untold: list[str]


@dataclass(frozen=True, slots=True)
class Strictest:
    """The strictest limit of a rule that would have held no run that was clear; None where it was never measured."""

    rule: str
    limit: Fraction | None
    runs: int  # clear ones in which it was measured
    held: int  # runs that it would have held at the limit that it has
    unmeasured: int  # runs without its measure: it held none of them here, and a gate would have held them


_OF_TWO_RUNS = ("plan.loosened", "coverage.change", "coverage.lost", "seconds.slower")


def can_be_told(rule: Rule) -> bool:
    """Whether a rule's measure is kept of past runs: not of single cells, folders or jobs' changed lines."""
    if rule.cells is not None or rule.folder is not None or rule.kinds:
        return False
    if rule.measure.startswith(("analysis.", "artifacts.")) or rule.measure in _OF_TWO_RUNS:
        return False
    if rule.measure == "seconds.total" and rule.jobs:
        return False
    several = len(rule.jobs) > 1
    return not (
        rule.measure.startswith("coverage.") and (several or (rule.measure == "coverage.changed" and rule.jobs))
    )


def value_at(rule: Rule, past: Past) -> Fraction | None:
    """A rule's measure in a past run; None when it was not measured there."""
    job = rule.jobs[0] if rule.jobs else ""
    if rule.measure in SHARES:
        return past.shares.get(rule.measure, {}).get(job)
    if rule.measure == "coverage.changed":
        return past.changed
    if rule.measure == "seconds.total":
        return past.seconds
    if any(j not in past.jobs for j in rule.jobs):
        return None
    return value_of([past.jobs[j] for j in rule.jobs or past.jobs], rule.measure)


def best(rule: Rule, values: Sequence[Fraction | None]) -> Fraction | None:
    """The best of what a measure was, the one that is hardest to keep; None where it was never measured."""
    known = [v for v in values if v is not None]
    return (max(known) if rule.sign == "at-least" else min(known)) if known else None


def replay(rules: Sequence[Rule], history: Sequence[Past], before: Sequence[Past] = ()) -> list[Replayed]:
    """What these rules would have said of each run, the newest first as given; `before` are baselines beyond them.

    What they would have held is no baseline of what came later, as it would have been then.
    A measure that a run does not have holds nothing here: whether it was not asked for then cannot be known.
    """
    told = [dataclasses.replace(r, after_runs=0) for r in rules if can_be_told(r)]  # as it is once it is settled
    untold = [r.name for r in rules if not can_be_told(r)]
    elsewhere = {p.number: p for p in before}
    bases: dict[int, Past | None] = {}
    clear: Past | None = None  # the newest so far that these rules do not hold
    found = []
    for past in reversed(history):
        other = elsewhere.get(past.baseline or 0)  # on another branch, which is not replayed
        newest = max(filter(None, (clear, other)), key=lambda p: p.number, default=None)
        bases[past.number] = newest
        said = _one(past, told, untold, bases)
        found.append(said)
        clear = past if said.now is Verdict.CLEAR else clear
    return found[::-1]


def _one(past: Past, rules: Sequence[Rule], untold: list[str], bases: Mapping[int, Past | None]) -> Replayed:
    asked = [r for r in rules if value_at(r, past) is not None]

    def before(rule: Rule) -> Fraction | None:
        seen: list[Fraction | None] = []
        at = bases[past.number]
        while at is not None and len(seen) < rule.best_of:
            seen.append(value_at(rule, at))
            at = bases.get(at.number)
        return best(rule, seen)

    measured = Measured(lambda r: value_at(r, past), before)
    judged: list[Judged] = judge_rules(asked, measured)
    holding = [*past.built_in, *(j.rule.name for j in judged if j.holds_run)]
    return Replayed(past.number, past.verdict, Verdict.HELD if holding else Verdict.CLEAR, holding, untold)


def strictest(rules: Sequence[Rule], history: Sequence[Past]) -> list[Strictest]:
    """For each rule with a number for a limit, how strict it could have been without holding a run that was clear."""
    found = []
    for rule in rules:
        if rule.limit == "baseline" or not can_be_told(rule):
            continue
        values = [v for p in history if p.verdict is Verdict.CLEAR and (v := value_at(rule, p)) is not None]
        least = rule.sign == "at-least"
        limit = (min(values) if least else max(values)) if values else None
        held = sum(v < rule.limit if least else v > rule.limit for v in values)
        unmeasured = sum(value_at(rule, p) is None for p in history)
        found.append(Strictest(rule.name, limit, len(values), held, unmeasured))
    return found
