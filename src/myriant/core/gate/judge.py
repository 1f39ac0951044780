"""From measures and rules to a verdict with its reasons."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from fractions import Fraction
from types import MappingProxyType

from myriant.core.plan.model import BuiltIn, Level, Plan, Rule
from myriant.core.states import Verdict
from myriant.core.written import counted

__all__ = [
    "GROWING",
    "Evidence",
    "Judged",
    "Measured",
    "Reason",
    "Verdict",
    "Waived",
    "beyond_repair",
    "good_jobs",
    "judge",
    "verdict_of",
]

TITLES: Mapping[BuiltIn, str] = {
    BuiltIn.VOID: "every result can be trusted",
    BuiltIn.STEPS: "every step ended well",
    BuiltIn.NEW: "no new failures",
    BuiltIn.VANISHED: "no test vanished",
    BuiltIn.SKIPPED: "no test newly skipped",
    BuiltIn.LOOSENED: "the plan asks no less than before",
}
MEASURED_AS: Mapping[BuiltIn, str] = {
    BuiltIn.NEW: "tests.new",
    BuiltIn.VANISHED: "tests.vanished",
    BuiltIn.SKIPPED: "tests.newly-skipped",
    BuiltIn.LOOSENED: "plan.loosened",
}


@dataclass(frozen=True, slots=True)
class Reason:
    """Why a built-in rule is not met: of which job, in which of how many cells."""

    text: str
    job: str = ""
    key: str = ""
    of: int = 0  # cells that the job has; 0: it is of no cell


@dataclass(frozen=True, slots=True)
class Evidence:
    """What the built-in rules are judged by: reasons, and counts of tests by job."""

    untrusted: Sequence[Reason] = ()
    steps: Sequence[Reason] = ()
    loosened: Sequence[str] = ()
    new: Mapping[str, int] = field(default_factory=dict)
    vanished: Mapping[str, int] = field(default_factory=dict)
    newly_skipped: Mapping[str, int] = field(default_factory=dict)
    following: int = 0  # cells without a result, for what is a reason already


@dataclass(frozen=True, slots=True)
class Waived:
    """A maintainer's word that a rule of the plan need not hold for a time, down to the value that was seen then."""

    by: str
    until: datetime
    reason: str
    about: str  # the measure and its sign: a rule that asks something else is another
    worst: Fraction


@dataclass(frozen=True, slots=True)
class Judged:
    """A rule with what was measured; `value` None means the measure could not be taken, which never meets a limit.

    `jobs` are those that keep it from being met (none: all of its scope).
    """

    rule: Rule
    value: Fraction | None
    limit: Fraction | None
    met: bool
    reason: str = ""
    built_in: BuiltIn | None = None
    jobs: tuple[str, ...] = ()
    waived: Waived | None = None  # only of what is not met

    @property
    def holds_run(self) -> bool:
        return not self.met and self.rule.level == "block" and self.waived is None


@dataclass(frozen=True, slots=True)
class Measured:
    """The value of a rule's measure within its jobs, cells and folder; None when it cannot be taken.

    `nothing` says why a measure has nothing to be taken of, which is no fault (no changed line could be covered).
    """

    now: Callable[[Rule], Fraction | None]
    baseline: Callable[[Rule], Fraction | None]
    nothing: Callable[[Rule], str] = lambda _: ""


def judge(
    plan: Plan | None,
    rules: Sequence[Rule],
    measured: Measured,
    evidence: Evidence,
    waivers: Mapping[str, Sequence[Waived]] | None = None,
    judged_before: Mapping[str, int] | None = None,
) -> list[Judged]:
    """Judge the built-in rules, at the levels that the plan gives them, and the plan's own `rules` beside them.

    Equality meets a limit; comparison is on exact fractions. A limit "baseline" without a baseline value is met.
    `waivers` are by the names of the plan's own rules; no built-in rule can be waived. `judged_before` says in how many
    runs a rule was judged already: one that is new may only warn for a while.
    """

    def level(rule: BuiltIn) -> Level:
        return plan.level_of(rule) if plan is not None else "block"

    counts = (
        (BuiltIn.NEW, evidence.new),
        (BuiltIn.VANISHED, evidence.vanished),
        (BuiltIn.SKIPPED, evidence.newly_skipped),
    )
    void = _reasons(BuiltIn.VOID, level(BuiltIn.VOID), evidence.untrusted)
    if void.met and evidence.following:
        void = replace(void, reason=f"{counted(evidence.following, 'cell')} gave none, for the reasons named here")
    judged = [
        void,
        _reasons(BuiltIn.STEPS, level(BuiltIn.STEPS), evidence.steps),
        *(_counted(rule, level(rule), by_job) for rule, by_job in counts),
        _reasons(BuiltIn.LOOSENED, level(BuiltIn.LOOSENED), [Reason(line) for line in evidence.loosened]),
    ]
    stand = {j.rule.measure: j.rule.level for j in judged if j.rule.measure}
    own = judge_rules([r for r in rules if not _repeats(r, stand)], measured, judged_before or {})
    return [*judged, *(_waived(j, (waivers or {}).get(j.rule.name, ())) for j in own)]


def judge_rules(
    rules: Sequence[Rule], measured: Measured, judged_before: Mapping[str, int] = MappingProxyType({})
) -> list[Judged]:
    """A plan's own rules by what is measured."""
    return [_settling(_of_plan(rule, measured), judged_before.get(rule.name, 0)) for rule in rules]


def _settling(j: Judged, before: int) -> Judged:
    """A rule that only warns in its first runs."""
    if before >= j.rule.after_runs or j.rule.level == "warn":
        return j
    said = f"it only warns in its first {j.rule.after_runs} runs, this is number {before + 1}"
    return replace(j, rule=replace(j.rule, level="warn"), reason=f"{j.reason}; {said}" if j.reason else said)


def _waived(j: Judged, waivers: Sequence[Waived]) -> Judged:
    """A rule that is not met, with the first waiver that reaches so far. What was not measured is never waived."""
    if not j.holds_run or j.value is None:
        return j
    most, value = j.rule.sign == "at-most", j.value
    good = (w for w in waivers if w.about == about(j.rule) and (value <= w.worst if most else value >= w.worst))
    return replace(j, waived=next(good, None))


def about(rule: Rule) -> str:
    """What a waiver of a rule is about."""
    return f"{rule.measure} {rule.sign}"


def _repeats(rule: Rule, stand: Mapping[str, Level]) -> bool:
    """Whether a built-in rule says the same of every cell, and no less strictly: it is said once."""
    whole = not (rule.jobs or rule.cells is not None or rule.folder or rule.since or rule.after_runs or rule.kinds)
    same = rule.sign == "at-most" and rule.limit == 0 and rule.measure in stand
    return whole and same and (rule.level == stand[rule.measure] or rule.level == "warn")


def _of_plan(rule: Rule, measured: Measured) -> Judged:
    value = measured.now(rule)
    limit = measured.baseline(rule) if rule.limit == "baseline" else rule.limit
    if value is None:
        nothing = measured.nothing(rule)
        if nothing:
            return Judged(rule, None, None, met=True, reason=nothing)
        of_coverage = rule.measure.startswith("coverage.")
        why = "no coverage was reported" if of_coverage else f"{rule.measure} was not measured"
        return Judged(rule, None, None, met=False, reason=why)
    if limit is None:
        return Judged(rule, value, None, met=True, reason="no baseline to compare with")
    met = value <= limit if rule.sign == "at-most" else value >= limit
    return Judged(rule, value, limit, met)


def _reasons(rule: BuiltIn, level: Level, reasons: Sequence[Reason]) -> Judged:
    asked = Rule(TITLES[rule], MEASURED_AS.get(rule, ""), "at-most", Fraction(0), level)
    texts = _each_once(reasons)
    more = f"; and {len(texts) - 20} more" if len(texts) > 20 else ""
    return Judged(
        asked,
        Fraction(len(reasons)),
        Fraction(0),
        not reasons,
        "; ".join(texts[:20]) + more,
        rule,
        tuple(dict.fromkeys(r.job for r in reasons if r.job)),
    )


MOST_KEYS = 3  # cells that are named one by one


def _each_once(reasons: Sequence[Reason]) -> list[str]:
    """Each reason once, with the cells that it is of: `step build failed (all 4 cells of unit)`."""
    cells: dict[tuple[str, str], list[Reason]] = {}
    for r in reasons:
        cells.setdefault((r.text, r.job), []).append(r)
    return list(dict.fromkeys(_where(text, job, rows) for (text, job), rows in cells.items()))


def _where(text: str, job: str, rows: Sequence[Reason]) -> str:
    of = rows[0].of
    if not of:
        return text
    if len(rows) == 1:
        return f"{text} ({f'{job} {rows[0].key}'.strip()})"
    if len(rows) == of:
        return f"{text} (all {of} cells of {job})"
    named = ", ".join(r.key for r in rows[:MOST_KEYS]) + (", …" if len(rows) > MOST_KEYS else "")
    return f"{text} ({len(rows)} of {of} cells of {job}: {named})"


def _counted(rule: BuiltIn, level: Level, by_job: Mapping[str, int]) -> Judged:
    asked = Rule(TITLES[rule], MEASURED_AS[rule], "at-most", Fraction(0), level)
    total = sum(by_job.values())
    return Judged(asked, Fraction(total), Fraction(0), not total, "", rule, tuple(j for j, n in by_job.items() if n))


GROWING = frozenset({"tests.new", "tests.failed", "tests.total", "results.total", "results.failed", "results.errored"})
_FOR_GOOD = (BuiltIn.VOID, BuiltIn.STEPS, BuiltIn.NEW, BuiltIn.LOOSENED)


def beyond_repair(judged: Sequence[Judged]) -> list[Judged]:
    """Rules that no further cell can meet any more: blocking ones at most a number, of counts that only grow."""
    return [
        j
        for j in judged
        if j.holds_run
        and (
            j.built_in in _FOR_GOOD
            or (j.built_in is None and j.rule.measure in GROWING and j.rule.sign == "at-most" and j.value is not None)
        )
    ]


def verdict_of(judged: Sequence[Judged]) -> Verdict:
    return Verdict.HELD if any(j.holds_run for j in judged) else Verdict.CLEAR


def good_jobs(jobs: Sequence[str], judged: Sequence[Judged]) -> set[str]:
    """The jobs that held nobody up. What a plan asks less holds the run, and is no job's fault."""
    good = set(jobs)
    for j in judged:
        if j.holds_run and j.built_in is not BuiltIn.LOOSENED:
            good -= set(j.jobs or j.rule.jobs or jobs)
    return good
