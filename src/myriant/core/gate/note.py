"""The commit note: plain text for `git log --notes=myriant`, a block for each project and context, worst first.

The first line is the worst commit verdict over all projects that watch the repository.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise

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


@dataclass(frozen=True, slots=True)
class NotedBlock:
    """What a run says in a note: its text begins with context and verdict, then the run's number and address."""

    project: str
    context: str
    verdict: Verdict
    text: str

    def written(self) -> str:
        return f"{self.project}, {self.text.strip()}"


@dataclass(frozen=True, slots=True)
class ProjectSays:
    """A project's word for a commit, and its blocks."""

    project: str
    word: Word
    blocks: Sequence[NotedBlock]


_HEAD = re.compile(r"^(?P<project>[^\n,]{1,200}), (?P<context>[^\n:]{1,400}): (?P<verdict>[a-z]{4,9})$")
_RUN = re.compile(r"^run: #\d+ (?P<address>\S+)$")
_RANK = (Verdict.HELD, Verdict.UNDECIDED, Verdict.CLEAR, Verdict.EXEMPT, Verdict.NONE)


def commit_note(said: Sequence[ProjectSays], others: Sequence[NotedBlock] = ()) -> str:
    """The note of a commit: what these projects say, and the blocks of `others`, who watch it from elsewhere."""
    words = [(s.word.verdict, s.project, context_said(s.word.context)) for s in said]
    words += [(b.verdict, b.project, b.context) for b in others]
    verdict, project, context = min(words, key=lambda w: (_RANK.index(w[0]), w[1]))
    place = ", ".join(p for p in (project if len({w[1] for w in words}) > 1 else "", context) if p)
    first = f"verdict: {verdict}{f' ({place})' if place else ''}" if verdict is not Verdict.NONE else "no verdict"
    blocks = [b for s in said for b in s.blocks] + list(others)
    ordered = sorted(blocks, key=lambda b: (_RANK.index(b.verdict), b.project))
    return "\n\n".join([first, *(b.written() for b in ordered)]) + "\n"


def context_said(context: str) -> str:
    told = parse_context(context)
    return told.said if told is not None else ""


def blocks_elsewhere(note: str, address: str) -> list[NotedBlock]:
    """The blocks of a note that another installation wrote: their runs have another address than ours begins with."""
    lines = note.split("\n")
    begins = [i for i, line in enumerate(lines[:-1]) if _HEAD.match(line) and _RUN.match(lines[i + 1])]
    found = []
    for begin, end in pairwise([*begins, len(lines)]):
        head, run = _HEAD.match(lines[begin]), _RUN.match(lines[begin + 1])
        if head is None or run is None or head["verdict"] not in _RANK:
            continue
        if not run["address"].startswith(f"{address.rstrip('/')}/"):
            text = "\n".join(lines[begin:end]).strip().removeprefix(f"{head['project']}, ")
            found.append(NotedBlock(head["project"], head["context"], Verdict(head["verdict"]), text))
    return found


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
