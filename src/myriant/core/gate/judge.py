"""From measures and rules to a verdict with its reasons."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from fractions import Fraction

from myriant.core.plan.model import Rule


class Verdict(StrEnum):
    CLEAR = "clear"
    HELD = "held"
    UNDECIDED = "undecided"
    EXEMPT = "exempt"


DEFAULT_RULES = (
    Rule("no new failures", "tests.new", "at-most", Fraction(0)),
    Rule("no test vanished", "tests.vanished", "at-most", Fraction(0), level="warn"),
)
TRUSTED = "every result can be trusted"
STEPS = "every step ended well"


@dataclass(frozen=True, slots=True)
class Judged:
    """A rule with what was measured; `value` None means the measure could not be taken, which never meets a limit."""

    rule: Rule
    value: Fraction | None
    limit: Fraction | None
    met: bool
    reason: str = ""

    @property
    def holds_run(self) -> bool:
        return not self.met and self.rule.level == "block"


@dataclass(frozen=True, slots=True)
class Measured:
    """The value of a rule's measure within its jobs, cells and folder; None when it cannot be taken."""

    now: Callable[[Rule], Fraction | None]
    baseline: Callable[[Rule], Fraction | None]


def judge(
    rules: Sequence[Rule], measured: Measured, untrusted: Sequence[str], failed_steps: Sequence[str]
) -> list[Judged]:
    """Judge the built-in rules (no untrusted result, no failed step without a failed test) and the plan's own.

    `untrusted` and `failed_steps` are the reasons, one for each cell concerned. Equality meets a limit;
    comparison is on exact fractions. A limit "baseline" without a baseline value is met.
    """
    judged = [_built_in(TRUSTED, untrusted), _built_in(STEPS, failed_steps)]
    for rule in rules or DEFAULT_RULES:
        value = measured.now(rule)
        limit = measured.baseline(rule) if rule.limit == "baseline" else rule.limit
        if value is None:
            of_coverage = rule.measure.startswith("coverage.")
            why = "no coverage was reported" if of_coverage else f"{rule.measure} could not be measured"
            judged.append(Judged(rule, None, limit, met=False, reason=why))
        elif limit is None:
            judged.append(Judged(rule, value, None, met=True, reason="no baseline to compare with"))
        else:
            met = value <= limit if rule.sign == "at-most" else value >= limit
            judged.append(Judged(rule, value, limit, met))
    return judged


GROWING = frozenset({"tests.new", "tests.failed", "tests.total", "results.total", "results.failed", "results.errored"})


def beyond_repair(judged: Sequence[Judged]) -> list[Judged]:
    """Rules that no further cell can meet any more: blocking ones at most a number, of counts that only grow."""
    return [
        j for j in judged
        if j.holds_run and (
            (j.rule.measure == "" and bool(j.reason))
            or (j.rule.measure in GROWING and j.rule.sign == "at-most" and j.value is not None)
        )
    ]  # fmt: skip


def _built_in(name: str, reasons: Sequence[str]) -> Judged:
    rule = Rule(name, "", "at-most", Fraction(0))
    return Judged(rule, Fraction(len(reasons)), Fraction(0), not reasons, reason="; ".join(reasons[:20]))


def verdict_of(judged: Sequence[Judged]) -> Verdict:
    return Verdict.HELD if any(j.holds_run for j in judged) else Verdict.CLEAR


def measures_of(values: Mapping[str, int | Fraction | None]) -> Callable[[str], Fraction | None]:
    def measure(name: str) -> Fraction | None:
        value = values.get(name)
        return None if value is None else Fraction(value)

    return measure
