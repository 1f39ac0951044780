"""The commit note: plain text for `git log --notes=myriant`, a block for each context under the commit's word."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction

from myriant.core.gate.contexts import parse_context
from myriant.core.gate.judge import Judged
from myriant.core.gate.sentence import shown
from myriant.core.gate.word import Word
from myriant.core.states import State, Verdict
from myriant.core.written import counted, day, percent

MOST_NOTED = 50


@dataclass(frozen=True, slots=True)
class NotedCell:
    job: str
    key: str
    state: State
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
    places: tuple[str, ...] = ()  # its file, and itself as a path: by what its owners are found


def commit_note(said: Word, blocks: Sequence[str]) -> str:
    """The commit's word in the first line, then what each context says, worst first."""
    told = parse_context(said.context)
    where = f" ({told.said})" if told is not None else ""
    first = f"verdict: {said.verdict}{where}" if said.verdict is not Verdict.NONE else "no verdict"
    return "\n\n".join([first, *(block.strip("\n") for block in blocks)]) + "\n"


def block(
    *,
    verdict: Verdict,
    context: str,
    address: str,
    number: int,
    said: str,
    baseline: str | None = None,
    judged: Sequence[Judged] = (),
    cells: Sequence[NotedCell] = (),
    new: Sequence[NotedFailure] = (),
    coverage: tuple[int, int] | None = None,  # covered and coverable lines
    changed: Fraction | None = None,  # share of the changed lines that was run
    uncovered: Sequence[str] = (),  # the first of those that nothing ran
    levels: Sequence[str] = (),  # measures that have another level, as can be told since this run
) -> str:
    """What one run says, at most 50 new failures in full."""
    told = parse_context(context)
    lines = [f"{told.said if told is not None else 'evidence'}: {verdict}", f"run: #{number} {address}", said]
    if baseline is not None:
        lines.append(f"baseline: {baseline}")
    if coverage and coverage[1]:
        covered, valid = coverage
        lines.append(f"line coverage: {percent(Fraction(covered, valid))} ({covered:,} of {counted(valid, 'line')})")
    if changed is not None:
        named = f"; nothing ran {', '.join(uncovered)}" if uncovered else ""
        lines.append(f"changed lines covered: {percent(changed)}{named}")
    lines += levels
    if cells:
        lines += ["", "cells:"]
        width = max(len(f"{c.job} {c.key}") for c in cells)
        for c in cells:
            counts = f"{c.passed} passed, {c.failed} failed, {c.errored} errored, {c.skipped} skipped"
            tail = f" — {one_line(c.reason)}" if c.state is State.VOID else ""
            lines.append(f"  {f'{c.job} {c.key}':<{width}}  {c.state:<7} {counts}{tail}")
    if new:
        lines += ["", f"new failures ({len(new)}):"]
        lines += [f"  {f.job} {f.key}  {f.test}: {one_line(f.message)}" for f in new[:MOST_NOTED]]
        if len(new) > MOST_NOTED:
            lines.append(f"  and {len(new) - MOST_NOTED} more, see the run")
    if judged:
        lines += ["", "rules:"]
        for j in judged:
            state = (
                "met"
                if j.met
                else "waived"
                if j.waived
                else "not met"
                if j.rule.level == "block"
                else "not met (warns)"
            )
            counted_rule = f": {shown(j)}" if j.built_in is None else f": {int(j.value or 0)}" if not j.met else ""
            detail = f" — {one_line(j.reason)}" if j.built_in is not None and j.reason else ""
            if j.waived is not None:
                detail = f" — by {j.waived.by} until {day(j.waived.until)}: {one_line(j.waived.reason)}"
            lines.append(f"  {state:<8} {j.rule.name}{counted_rule}{detail}")
    return "\n".join(lines) + "\n"


def one_line(text: str) -> str:
    one = " ".join(text.split())
    return one if len(one) <= 200 else one[:199] + "…"
