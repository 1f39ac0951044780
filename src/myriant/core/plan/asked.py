"""What a pull request is asked: all that its target's plan asks; its own plan says how, and what more.

So a change cannot loosen the gate that judges it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from myriant.core.matrix.expand import expand
from myriant.core.plan.model import BuiltIn, Collect, Job, Level, Plan, Step


def asked(target: Plan, own: Plan) -> Plan:
    """The plan that a pull request runs by."""
    found = {old.id: next((j for j in own.jobs if j.id == old.id or old.id in j.formerly), None) for old in target.jobs}
    names = _names(found)
    jobs = [_merged(old, new) if (new := found[old.id]) is not None else old for old in target.jobs]
    taken = {new.id for new in found.values() if new is not None}
    known = set(names.values())
    more = [j for j in own.jobs if j.id not in taken and j.id not in known]
    back = {new.id: names[old] for old, new in found.items() if new is not None}
    jobs = [_renamed(job, names) for job in jobs] + [_renamed(job, {**names, **back}) for job in more]
    ours = [replace(r, jobs=tuple(names.get(j, j) for j in r.jobs)) for r in target.rules]
    theirs = [replace(r, jobs=tuple(back.get(j, j) for j in r.jobs)) for r in own.rules]
    rules = [*ours, *(r for r in theirs if not any(r.name == t.name for t in target.rules))]
    levels: dict[BuiltIn, Level] = {
        rule: "block" if "block" in (target.level_of(rule), own.level_of(rule)) else "warn" for rule in BuiltIn
    }
    measured = any(r.measure.startswith("coverage.") for r in target.rules)  # what the rules are over is the target's
    paths = target.coverage if measured else own.coverage
    return Plan(target.events, tuple(jobs), tuple(rules), paths, levels)


def _names(found: Mapping[str, Job | None]) -> dict[str, str]:
    """By the target's id of a job, the one it goes by: its new name where that is nobody else's."""
    names: dict[str, str] = {}
    for old, new in found.items():
        free = new is not None and new.id not in names.values() and (new.id == old or new.id not in found)
        names[old] = new.id if new is not None and free else old
    return names


def _renamed(job: Job, names: Mapping[str, str]) -> Job:
    after = tuple(replace(a, job=names.get(a.job, a.job)) for a in job.after)
    return replace(job, id=names.get(job.id, job.id), after=after)


def _merged(old: Job, new: Job) -> Job:
    """The target's job, done as the pull request's own plan says."""
    merged = replace(
        new,
        id=old.id,
        formerly=tuple(dict.fromkeys((*(() if new.id == old.id else (old.id,)), *new.formerly))),
        when=old.when,
        touching=old.touching,
        after=old.after,
        gated=old.gated,
        housekeeping=old.housekeeping,
        sample=old.sample,
        approval=old.approval,
        expect=old.expect,
        takes=old.takes,
        advisory=old.advisory,
        steps=tuple(_steps(old, new)),
    )
    wanted, offered = {c.key for c in expand(old)}, {c.key: c for c in expand(merged)}
    if wanted <= set(offered):
        return merged
    extra: Iterable[dict[str, str]] = ()
    if list(old.vary) == list(new.vary):
        extra = [c.values for key, c in offered.items() if key not in wanted and c.values not in old.add]
    return replace(merged, vary=old.vary, runtime=old.runtime, pin=old.pin, drop=old.drop, add=(*old.add, *extra))


def _steps(old: Job, new: Job) -> list[Step]:
    by_name = {s.name: s for s in old.steps}
    steps = []
    for step in new.steps:
        then = by_name.get(step.name)
        steps.append(
            replace(
                step,
                may_fail=step.may_fail and (then.may_fail if then is not None else not step.collect),
                when=then.when if then is not None else step.when,
                proves=then.proves if then is not None else step.proves,
                collect=tuple(_as_strict(c, old) for c in step.collect),
            )
        )
    collected = {what for step in steps for what in _contents(step)}
    named = {step.name for step in steps}
    steps += [s for s in old.steps if set(_contents(s)) - collected or (s.proves and s.name not in named)]
    return steps


def _as_strict(collect: Collect, old: Job) -> Collect:
    """What a step collects may be empty only where the target's plan says so too, or does not know of it."""
    before = [c for s in old.steps for c in s.collect if set(_kinds(c)) & set(_kinds(collect))]
    return replace(collect, may_be_empty=collect.may_be_empty and all(c.may_be_empty for c in before))


def _contents(step: Step) -> list[str]:
    return [what for c in step.collect for what in _kinds(c)]


def _kinds(c: Collect) -> list[str]:
    told = ((f"{c.kind} tests", c.tests), ("coverage", c.coverage), ("analysis", c.analysis))
    return [what for what, patterns in told if patterns]
