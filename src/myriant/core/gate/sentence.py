"""The sentence that says a run's verdict, and the commit note: texts a person could paste into a chat."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from myriant.core.diagnosis.compare import Tally
from myriant.core.gate.judge import STEPS, TRUSTED, Judged, Verdict
from myriant.core.plan.keys import FRACTIONS
from myriant.core.written import counted, duration, percent


@dataclass(frozen=True, slots=True)
class Told:
    """What the sentence is made of."""

    verdict: Verdict
    tally: Tally
    where: str | None  # the selector that explains the new failures
    first_here: int  # tests that are new only because their cell has no earlier result
    judged: Sequence[Judged]
    cells: int
    cells_ended_well: int  # with a result that can be trusted
    seconds: float
    baseline: str | None  # short id of the gate baseline's commit
    coverage: Fraction | None = None
    coverage_before: Fraction | None = None
    retests: int = 0  # how often failed tests were run again within attempts
    reruns: int = 0  # attempts that were made again by a person's wish
    open_cells: int = 0  # that still wait or run: the verdict came early


def sentence(told: Told) -> str:
    """For example: Held: 3 tests newly fail, only where python=3.8. 11 of 12 cells in 1 min 48 s, against 9f3c21a."""
    early = " early" if told.open_cells else ""
    parts = [f"{told.verdict.capitalize()}{early}: {_main(told)}{_again(told)}."]
    named = any(j.holds_run and j.rule.measure == "coverage.line" for j in told.judged)
    if told.coverage is not None and not named:
        parts.append(_coverage(told.coverage, told.coverage_before))
    against = f", against {told.baseline}" if told.baseline else ", without a clear ancestor to compare with"
    if told.open_cells:
        parts.append(f"{counted(told.open_cells, 'cell')} still to end, which cannot clear it{against}.")
        return " ".join(parts)
    parts.append(f"{told.cells_ended_well} of {counted(told.cells, 'cell')} in {duration(told.seconds)}{against}.")
    return " ".join(parts)


def _main(told: Told) -> str:
    tally = told.tally
    said = []
    by_name = {j.rule.name: j for j in told.judged if not j.met}
    if TRUSTED in by_name:
        said.append(f"no trustworthy result ({by_name[TRUSTED].reason})")
    if STEPS in by_name:
        said.append(by_name[STEPS].reason)
    if tally.tests_new:
        where = f", only where {told.where}" if told.where else ""
        first = f" ({told.first_here} for the first time in their cell)" if told.first_here else ""
        said.append(
            f"{counted(tally.tests_new, 'test')} newly {'fails' if tally.tests_new == 1 else 'fail'}{first}{where}"
        )
    if tally.tests_known:
        said.append(f"{counted(tally.tests_known, 'known failure')}")
    said += [
        f"{j.rule.name}: {shown(j)}" for j in told.judged if j.holds_run and j.rule.measure not in ("", "tests.new")
    ]
    if tally.tests_fixed:
        said.append(f"{counted(tally.tests_fixed, 'test')} fixed")
    if tally.tests_vanished:
        said.append(f"{counted(tally.tests_vanished, 'test')} vanished")
    if not said or (tally.tests_fixed and told.verdict is Verdict.CLEAR and not tally.tests_new):
        said.append(f"{tally.tests_passed:,} of {counted(tally.tests_total - tally.tests_skipped, 'test')} passed")
    return "; ".join(said)


def _again(told: Told) -> str:
    """What was run again, for whoever wonders why a red test is not counted."""
    flaky = f"{counted(told.tally.tests_flaky, 'flaky test')} passed" if told.tally.tests_flaky else ""
    ways = [counted(n, one) for n, one in ((told.retests, "retest"), (told.reruns, "rerun")) if n]
    if not ways:
        return f"; {flaky} when run again" if flaky else ""
    return f"; {flaky} after {' and '.join(ways)}" if flaky else f"; after {' and '.join(ways)}"


def _coverage(now: Fraction, before: Fraction | None) -> str:
    if before is None:
        return f"Line coverage {percent(now)}."
    points = float((now - before) * 100)
    sign = "+" if points > 0 else "−" if points < 0 else "±"
    return f"Line coverage {percent(now)} ({sign}{abs(points):.1f})."


def shown(judged: Judged) -> str:
    """A judged rule in words: `81.2 %, at least 80.0 %`."""
    sign = judged.rule.sign.replace("-", " ")
    if judged.value is None:
        return judged.reason
    limit = "the baseline's" if judged.limit is None else value_text(judged.rule.measure, judged.limit, None)
    return f"{value_text(judged.rule.measure, judged.value, judged.limit)}, {sign} {limit}"


def value_text(measure: str, value: Fraction, limit: Fraction | None) -> str:
    if measure in FRACTIONS:
        return percent(value, limit)
    return f"{int(value):,}" if value.denominator == 1 else f"{float(value):.3f}"


@dataclass(frozen=True, slots=True)
class NotedCell:
    job: str
    key: str
    state: str
    reason: str
    passed: int
    failed: int
    errored: int
    skipped: int


@dataclass(frozen=True, slots=True)
class NotedFailure:
    job: str
    key: str
    test: str
    message: str


MOST_NOTED = 50


def commit_note(
    *,
    verdict: Verdict,
    purpose: str,
    branch: str,
    address: str,
    number: int,
    said: str,
    baseline: str | None,
    judged: Sequence[Judged],
    cells: Sequence[NotedCell],
    new: Sequence[NotedFailure],
    coverage: tuple[int, int] | None = None,  # covered and coverable lines
) -> str:
    """The commit note: plain text for `git log --notes=myriant`, at most 50 new failures in full."""
    lines = [
        f"verdict: {verdict} ({purpose} to {branch})",
        f"run: #{number} {address}",
        said,
        f"baseline: {baseline or 'none'}",
    ]
    if coverage and coverage[1]:
        covered, valid = coverage
        lines.append(f"line coverage: {percent(Fraction(covered, valid))} ({covered:,} of {counted(valid, 'line')})")
    if cells:
        lines += ["", "cells:"]
        width = max(len(f"{c.job} {c.key}") for c in cells)
        for c in cells:
            counts = f"{c.passed} passed, {c.failed} failed, {c.errored} errored, {c.skipped} skipped"
            tail = f" — {_line(c.reason)}" if c.state == "void" else ""
            lines.append(f"  {f'{c.job} {c.key}':<{width}}  {c.state:<7} {counts}{tail}")
    if new:
        lines += ["", f"new failures ({len(new)}):"]
        lines += [f"  {f.job} {f.key}  {f.test}: {_line(f.message)}" for f in new[:MOST_NOTED]]
        if len(new) > MOST_NOTED:
            lines.append(f"  and {len(new) - MOST_NOTED} more, see the run")
    if judged:
        lines += ["", "rules:"]
        for j in judged:
            state = "met" if j.met else "not met" if j.rule.level == "block" else "not met (warns)"
            detail = f" — {_line(j.reason)}" if j.rule.measure == "" and j.reason else ""
            told = f": {shown(j)}" if j.rule.measure else ""
            lines.append(f"  {state:<8} {j.rule.name}{told}{detail}")
    return "\n".join(lines) + "\n"


def _line(text: str) -> str:
    one = " ".join(text.split())
    return one if len(one) <= 200 else one[:199] + "…"
