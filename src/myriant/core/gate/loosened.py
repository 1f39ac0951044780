"""Loosened: what a plan asks less than the plan before it, for every event.

Each line is a sentence a maintainer can accept; the same loosening has the same line.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace

from myriant.core.matrix.expand import expand
from myriant.core.plan.advice import sample_events
from myriant.core.plan.intent import Event, intent
from myriant.core.plan.model import BranchEvent, BuiltIn, Events, Job, Plan, Rule, Step
from myriant.core.plan.selectors import written
from myriant.core.written import counted, step_called

_LEVELS = {"block": 2, "warn": 1}


def loosened(now: Plan, before: Plan) -> list[str]:
    """What `now` takes away from what `before` asks, one line each, in the order of the plan."""
    return list(
        dict.fromkeys(
            [*_events(now.events, before.events), *_jobs(now, before), *_gate(now, before), *_coverage(now, before)]
        )
    )


def _events(now: Events, before: Events) -> Iterator[str]:
    for name, new, old in (("push", now.push, before.push), ("pull-request", now.pull_request, before.pull_request)):
        if old is not None:
            yield from _branch_event(name, new, old)
    if before.tags is not None:
        if now.tags is None:
            yield "the tag event is gone"
        elif now.tags and (not before.tags or set(before.tags) - set(now.tags)):
            yield f"the tag event names {', '.join(now.tags)} only"
    kept = {s.name: s.jobs for s in now.schedules}
    for old_schedule in before.schedules:
        jobs = kept.get(old_schedule.name)
        if jobs is None:
            yield f"the schedule {old_schedule.name} is gone"
        elif jobs and (not old_schedule.jobs or set(old_schedule.jobs) - set(jobs)):
            yield f"the schedule {old_schedule.name} names {', '.join(jobs)} only"


def _branch_event(name: str, now: BranchEvent | None, before: BranchEvent) -> Iterator[str]:
    if now is None:
        yield f"the {name} event is gone"
        return
    if now.branches and (not before.branches or set(before.branches) - set(now.branches)):
        yield f"the {name} event names {', '.join(now.branches)} only"
    for glob in now.unless_only:
        if glob not in before.unless_only:
            yield f"the {name} event is excused by changes of {glob} only"
    if now.touching and (not before.touching or set(before.touching) - set(now.touching)):
        yield f"the {name} event looks at {', '.join(now.touching)} only"


def _jobs(now: Plan, before: Plan) -> Iterator[str]:
    for old in before.jobs:
        if old.gated:
            continue
        new = next((j for j in now.jobs if j.id == old.id or old.id in j.formerly), None)
        if new is None:
            yield f"job {old.id} is gone"
        elif new.gated or new.housekeeping:
            yield f"job {old.id} is {'housekeeping' if new.housekeeping else 'gated: it runs behind the verdict'}"
        else:
            yield from _job(now, before, new, old)


def _job(now: Plan, before: Plan, new: Job, old: Job) -> Iterator[str]:
    cells, earlier = {c.key: c for c in expand(new)}, {c.key: c for c in expand(old)}
    added = set(new.vary) - set(old.vary)
    kept = {written({d: v for d, v in c.values.items() if d not in added}): c for c in cells.values()}
    gone = [key for key in earlier if key not in kept]
    if gone:
        shown = "; ".join(key or "its only one" for key in gone[:4]) + (
            f" and {len(gone) - 4} more" if len(gone) > 4 else ""
        )
        yield f"job {old.id}: {counted(len(gone), 'cell')} gone ({shown})"
    advisory = [k for k, c in earlier.items() if not c.advisory and k in kept and kept[k].advisory]
    if advisory:
        yield f"job {old.id}: {counted(len(advisory), 'cell')} made advisory ({'; '.join(advisory[:4])})"
    if new.sample is not None and (old.sample is None or new.sample.strength < old.sample.strength):
        yield f"job {old.id}: a sample of strength {new.sample.strength} runs instead of all its cells"
    elif (
        new.sample
        and old.sample
        and old.sample.events
        and not set(new.sample.events or ("*",)) <= set(old.sample.events)
    ):
        yield f"job {old.id}: it is sampled at more events"
    if new.touching and (not old.touching or set(old.touching) - set(new.touching)):
        yield f"job {old.id}: it looks at {', '.join(new.touching)} only"
    lost = [str(e) for e in _lost_events(now, before, new, old)]
    if lost:
        yield f"job {old.id}: it does not run any more for {', '.join(lost[:4])}"
    yield from _steps(new, old)


def _lost_events(now: Plan, before: Plan, new: Job, old: Job) -> Iterator[Event]:
    """Events that the plan still knows and for which the job ran."""
    if str(new.when) == str(old.when) and not (new.after or old.after):
        return
    for event in sample_events(before):
        then = next(j for j in intent(before, event).jobs if j.job.id == old.id)
        today = intent(now, event)
        here = next(j for j in today.jobs if j.job.id == new.id)
        if then.runs and not here.runs and not today.reason:
            yield event


def _steps(new: Job, old: Job) -> Iterator[str]:
    collects, earlier = _collects(new), _collects(old)
    for what in earlier:
        if what not in collects:
            yield f"job {old.id}: {what} are not collected any more"
    for what, empty in collects.items():
        if empty and what in earlier and not earlier[what]:
            yield f"job {old.id}: {what} may be empty"
    yield from _gone_steps(new, old)
    by_name = {s.name: s for s in old.steps}
    for step in new.steps:
        then = by_name.get(step.name)
        if step.may_fail and (then is None or not then.may_fail) and (then is not None or _is_new_place(step, old)):
            yield f"job {old.id}: {step_called(step.name)} may fail"
        if then is not None and step.when is not None and str(step.when) != str(then.when):
            yield f"job {old.id}: {step_called(step.name)} runs only where {step.when}"
        if then is not None and cannot_fail(step, new) and not cannot_fail(then, old):
            yield f"job {old.id}: {step_called(step.name)} cannot fail any more"


def _gone_steps(new: Job, old: Job) -> Iterator[str]:
    """Steps of which neither name nor command is there any more, nor what they collect."""
    names, texts = {s.name for s in new.steps}, {_text(s) for s in new.steps}
    collects = _collects(new)
    for step in old.steps:
        stands_in = any(what in collects for what in _of_step(step))
        inside = any(_text(step) in text for text in texts)
        if (
            step.name not in names
            and not inside
            and not stands_in
            and not _of_step(step)
            and not cannot_fail(step, old)
        ):
            yield f"job {old.id}: {step_called(step.name)} is gone"


def _text(step: Step) -> str:
    return " ".join((step.command if isinstance(step.command, str) else " ".join(step.command)).split())


# steps run with -e, and but for bash without pipefail
_SWALLOWS = re.compile(r"\|\|\s*(true|:|exit\s+0|/bin/true|echo\b[^;&|]*)\s*;?\s*$")
_GOES_ON = re.compile(r"\bset\s+\+e\b")
_ENDS_BADLY = re.compile(r"\bset\s+-e|\bexit\b(?!\s+0\b)")
_SAYS_NOTHING = re.compile(
    r"(true|:|/bin/true|exit\s+0|echo\b[^;&|<>]*)(\s*(;|&&)\s*(true|:|exit\s+0|echo\b[^;&|<>]*))*;?"
)
_PIPES = re.compile(r"[^|]\|&?\s*(cat|tee|head|tail|sort|grep\s+-v)\b[^|;&]*$")


def cannot_fail(step: Step, job: Job) -> bool:
    """Whether a step ends well whatever its commands say."""
    text = _text(step)
    pipes = (step.shell or job.shell) != "bash" and isinstance(step.command, str) and bool(_PIPES.search(text))
    return step.may_fail or pipes or bool(_SWALLOWS.search(text) or _SAYS_NOTHING.fullmatch(text)) or _goes_on(step)


def _goes_on(step: Step) -> bool:
    """Whether a step goes on after what fails, and its last command says nothing; else that one's word counts."""
    text = step.command if isinstance(step.command, str) else ""
    parts = _GOES_ON.split(text)
    if len(parts) == 1 or _ENDS_BADLY.search(parts[-1]):
        return False
    commands = [c.strip() for c in re.split(r"[\n;]|&&", parts[-1]) if c.strip()]
    return bool(commands) and bool(_SAYS_NOTHING.fullmatch(commands[-1]))


def _is_new_place(step: Step, old: Job) -> bool:
    """Whether a step of another name collects what one collected before: it stands in its place."""
    return bool(set(_of_step(step)) & set(_collects(old)))


def _collects(job: Job) -> dict[str, bool]:
    """What a job collects, and whether that may be empty."""
    found: dict[str, bool] = {}
    for step in job.steps:
        for what, empty in _of_step(step).items():
            found[what] = found.get(what, True) and empty
    return found


def _of_step(step: Step) -> dict[str, bool]:
    found: dict[str, bool] = {}
    for c in step.collect:
        if c.tests:
            found[f"{c.kind} tests"] = c.may_be_empty
        if c.coverage:
            found["coverage reports"] = c.may_be_empty
        if c.analysis:
            found["analysis reports"] = c.may_be_empty
    return found


def _gate(now: Plan, before: Plan) -> Iterator[str]:
    for rule in BuiltIn:
        if _LEVELS[now.level_of(rule)] < _LEVELS[before.level_of(rule)]:
            yield f"the built-in rule {rule} only warns"
    kept = list(now.rules)
    today = {name: job.id for job in now.jobs for name in reversed((job.id, *job.formerly))}
    for old in (replace(rule, jobs=tuple(today.get(j, j) for j in rule.jobs)) for rule in before.rules):
        same = [r for r in kept if _asks_the_same(r, old)]
        if not same:
            yield f"the rule “{old.name}” is gone"
            continue
        kept.remove(best := max(same, key=lambda r: (_strictness(r, old), r.name == old.name)))
        if _strictness(best, old) < 0:
            yield f"the rule “{old.name}” asks less: {_limit(best)} instead of {_limit(old)}"
        if _LEVELS[best.level] < _LEVELS[old.level]:
            yield f"the rule “{old.name}” only warns"
        if best.since is not None and best.since != old.since and (old.since is None or best.since > old.since):
            yield f"the rule “{old.name}” holds only since {best.since}"
        if best.after_runs > old.after_runs or (best.after_runs and best.name != old.name):  # it is counted by its name
            yield f"the rule “{old.name}” only warns for its first {counted(best.after_runs, 'run')}"


def _coverage(now: Plan, before: Plan) -> Iterator[str]:
    """Where rules measure coverage, what is measured is theirs too: a change can take its own files out of it."""
    if not any(r.measure.startswith("coverage.") for r in before.rules):
        return
    new, old = now.coverage, before.coverage
    yield from (f"coverage leaves out {glob}" for glob in new.exclude if glob not in old.exclude)
    yield from (
        f"coverage takes {a or 'every path'} for {b or 'the repository'}" for a, b in new.map if (a, b) not in old.map
    )
    if old.map != new.map and set(new.map) <= set(old.map):
        yield "coverage.map names less, or in another order"
    if new.root != old.root:
        yield f"paths of coverage reports are relative to {new.root or 'the workspace'}"


def _asks_the_same(new: Rule, old: Rule) -> bool:
    scope: Mapping[str, object] = {"cells": str(old.cells), "folder": old.folder, "kinds": set(old.kinds)}
    mine = {"cells": str(new.cells), "folder": new.folder, "kinds": set(new.kinds)}
    return (
        new.measure == old.measure
        and new.sign == old.sign
        and mine == scope
        and (not new.jobs or (bool(old.jobs) and set(old.jobs) <= set(new.jobs)))
    )


def _strictness(new: Rule, old: Rule) -> int:
    """1 asks more, 0 the same, -1 less. A ratchet and a number cannot be ordered: a change between them asks less."""
    if new.limit == old.limit:
        return (new.best_of > old.best_of) - (new.best_of < old.best_of)
    if new.limit == "baseline" or old.limit == "baseline":
        return -1
    more = new.limit < old.limit if new.sign == "at-most" else new.limit > old.limit
    return 1 if more else -1


def _limit(rule: Rule) -> str:
    back = "the baseline's" if rule.best_of == 1 else f"the best of {rule.best_of} baselines"
    limit = back if rule.limit == "baseline" else f"{float(rule.limit):g}"
    return f"{rule.sign.replace('-', ' ')} {limit}"
