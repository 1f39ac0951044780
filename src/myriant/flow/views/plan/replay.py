"""The gate of a draft over past runs: what it would have held, what differs from then, how strict it could be."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from myriant.core.gate.contexts import push_to
from myriant.core.gate.replay import Past, replay, strictest
from myriant.core.gate.sentence import value_text
from myriant.core.plan.keys import SHARES
from myriant.core.plan.model import BuiltIn, Plan
from myriant.core.plan.read import read_plan
from myriant.core.states import Verdict
from myriant.core.written import counted
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.coverage import coverage_totals_of
from myriant.store.records import RuleJudged
from myriant.store.trends import judged_numbered, judged_on

MOST_RUNS = 1000


@dataclass(frozen=True, slots=True)
class ReplayedRun:
    number: int
    title: str
    before: Verdict
    now: Verdict
    holding: list[str]


@dataclass(frozen=True, slots=True)
class Limit:
    """How strict a rule could have been: it would have held `held` of the clear runs as it is."""

    rule: str
    limit: str | None
    runs: int
    held: int
    unmeasured: int  # runs in which it was not measured


@dataclass(frozen=True, slots=True)
class Replay:
    said: str
    branch: str
    runs: list[ReplayedRun]  # newest first
    held: int
    differs: int
    untold: list[str]  # rules whose measure is not kept of past runs
    limits: list[Limit]


def replay_of(site: Site, name: str, text: str, branch: str | None, most: int) -> Replay:
    """A draft's gate over the newest decided runs of a branch: its rules, and the built-in ones at its levels."""
    plan = read_plan(text.encode("utf-8", "replace")).plan
    with site.store.view() as session:
        project = the_project(session, name)
        branch = branch or project.main_branch
        if plan is None:
            said = "The draft cannot be used, so there is no gate to replay: every push would be held."
            return Replay(said, branch, [], 0, 0, [], [])
        rows = judged_on(session, project.id, str(push_to(branch)), most)
        listed = {row[1] for row in rows}
        beyond = judged_numbered(session, project.id, {row[9] for row in rows if row[9]} - listed)
        shares = coverage_totals_of(session, [row[0] for row in (*rows, *beyond)])
    kept: dict[int, dict[str, dict[str, Fraction]]] = {}
    for (run, job), totals in shares.items():
        for measure, unit in SHARES.items():
            if (value := totals.share(unit)) is not None:
                kept.setdefault(run, {}).setdefault(measure, {})[job] = value

    def past(row: tuple[Any, ...]) -> Past:
        run, number, _, verdict, jobs, changed, judged, seconds, _, base = row
        return Past(
            number,
            verdict,
            jobs or {},
            kept.get(run, {}),
            Fraction(*changed) if changed and changed[1] else None,
            Fraction(round(seconds * 1000), 1000) if seconds is not None else None,
            base,
            [j.name for j in judged if _holds(plan, j)],
        )

    history = [past(row) for row in rows]
    titles = {row[1]: row[2] for row in rows}
    told = replay(plan.rules, history, [past(row) for row in beyond])
    runs = [ReplayedRun(t.number, titles[t.number], t.before, t.now, t.holding) for t in told]
    measures = {r.name: r.measure for r in plan.rules}
    limits = [
        Limit(
            s.rule,
            value_text(measures[s.rule], s.limit, None) if s.limit is not None else None,
            s.runs,
            s.held,
            s.unmeasured,
        )
        for s in strictest(plan.rules, history)
    ]
    held, differs = sum(r.now is Verdict.HELD for r in runs), sum(r.now != r.before for r in runs)
    return Replay(_said(runs, held, differs), branch, runs, held, differs, told[0].untold if told else [], limits)


def _holds(plan: Plan, judged: RuleJudged) -> bool:
    """Whether a built-in rule that was not met then holds at the level that a draft gives it."""
    built_in = judged.built_in
    return bool(built_in) and not judged.met and plan.level_of(BuiltIn(str(built_in))) == "block"


def _said(runs: list[ReplayedRun], held: int, differs: int) -> str:
    if not runs:
        return "No run of this branch was judged yet, so there is nothing to replay."
    changed = f"{counted(differs, 'run')} would be said otherwise" if differs else "as it was"
    return f"Over the newest {counted(len(runs), 'run')} this gate would have held {held}; {changed}."
