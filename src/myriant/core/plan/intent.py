"""What an event makes happen under a plan, and why the rest does not."""

from __future__ import annotations

import fnmatch
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import TYPE_CHECKING

from myriant.core.matrix.expand import Cell, choose, expand
from myriant.core.plan.model import BranchEvent, Job, Plan, Step
from myriant.core.plan.selectors import Selector
from myriant.core.plan.watched_paths import covers, named_by, touches
from myriant.core.states import EventKind

if TYPE_CHECKING:
    from myriant.core.matrix.sample import BlindSpots


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened, or might; `changed` None: which files changed is not known."""

    kind: str  # one of EventKind
    branch: str = ""  # the branch being changed: a pull request's target
    source: str = ""  # a pull request's own branch
    tag: str = ""
    schedule: str = ""
    changed: tuple[str, ...] | None = None
    jobs: tuple[str, ...] = ()  # manual: only these and what they wait for
    cells: Selector | None = None  # manual: only these
    changed_for: Mapping[str, tuple[str, ...] | None] | None = None  # by job, when each has a baseline of its own

    def changed_of(self, job: str) -> tuple[str, ...] | None:
        """What changed for a job since its own baseline; None: nothing excuses it."""
        return self.changed if self.changed_for is None else self.changed_for.get(job)

    def context(self) -> dict[str, str]:
        """What selectors can ask of it."""
        pairs = {"event": self.kind, "branch": self.branch, "from": self.source, "tag": self.tag}
        return {k: v for k, v in pairs.items() if v}

    def __str__(self) -> str:
        match self.kind:
            case "push":
                return f"a push to {self.branch}"
            case "pull-request":
                return f"a pull request{f' from {self.source}' if self.source else ''} into {self.branch}"
            case "tag":
                return f"the tag {self.tag}"
            case "schedule":
                return f"the schedule {self.schedule}"
            case kind:
                return f"a run by hand of {self.branch}" if kind == "manual" else f"an {kind} for {self.branch}"


class Fate(StrEnum):
    """What an event makes of a job."""

    RUNS = "runs"
    NOT_ASKED = "not-asked"
    NOT_CHOSEN = "not-chosen"  # by the person who started it
    EXCUSED = "excused"  # nothing that it watches changed since it last held nobody up
    LACKS = "lacks"  # a job that it waits for does not run


@dataclass(frozen=True, slots=True)
class JobIntent:
    """A job under an event: its cells, or why it does not run."""

    job: Job
    fate: Fate = Fate.RUNS
    reason: str = ""  # why it does not run
    because: str = ""  # why it runs although it was not asked for
    cells: tuple[Cell, ...] = ()
    blind: BlindSpots | None = None
    examples: tuple[dict[str, str], ...] = ()
    left_out: int = 0  # cells that its when excludes

    @property
    def runs(self) -> bool:
        return self.fate is Fate.RUNS

    @property
    def selected(self) -> int:
        return sum(c.selected for c in self.cells)


@dataclass(frozen=True, slots=True)
class Intent:
    """What happens; `reason` says why nothing does."""

    event: Event
    reason: str
    jobs: tuple[JobIntent, ...] = ()

    @property
    def cells(self) -> list[Cell]:
        return [c for job in self.jobs for c in job.cells]

    @property
    def excused(self) -> bool:
        """Whether jobs were asked, and each of them has a result that still holds."""
        asked = [j.fate for j in self.jobs if not j.job.gated and j.fate in (Fate.RUNS, Fate.EXCUSED)]
        return bool(asked) and Fate.RUNS not in asked

    @property
    def starts(self) -> bool:
        return not self.reason and any(j.runs for j in self.jobs)


@dataclass(frozen=True, slots=True)
class Earlier:
    """Keys of the cells that earlier samples chose, by job."""

    chosen: Mapping[str, Collection[str]] = field(default_factory=dict)


def intent(plan: Plan, event: Event, earlier: Earlier | None = None) -> Intent:
    """What `event` makes happen: its jobs with their cells in the order of the plan, every absence explained."""
    reason = starts_nothing(plan, event)
    if reason:
        return Intent(event, reason, tuple(JobIntent(job, Fate.NOT_ASKED, reason) for job in plan.jobs))
    by_id: dict[str, JobIntent] = {}
    for job in plan.jobs:
        by_id[job.id] = _alone(plan, job, event, earlier)
    _include_given(plan, event, by_id, earlier)
    _include_awaited(plan, event, by_id, earlier)
    _exclude_waiting(plan, by_id)
    found = Intent(event, "", tuple(by_id[job.id] for job in plan.jobs))
    if not found.starts and not found.excused:
        first = found.jobs[0].reason if len(found.jobs) == 1 else "no job of the plan runs for it"
        return replace(found, reason=first)
    return found


def starts_nothing(plan: Plan, event: Event) -> str:
    """Why an event starts nothing at all under a plan; empty when it does."""
    events = plan.events
    match event.kind:
        case "push":
            return _branch_refusal(events.push, "push", event)
        case "pull-request":
            return _branch_refusal(events.pull_request, "pull-request", event)
        case "tag":
            if events.tags is None:
                return "the plan has no tag event"
            if events.tags and not any(fnmatch.fnmatchcase(event.tag, p) for p in events.tags):
                return f"the plan's tag event names {', '.join(events.tags)}, not {event.tag}"
        case "schedule":
            if not any(s.name == event.schedule for s in events.schedules):
                return f"the plan has no schedule {event.schedule}"
    return ""


def _branch_refusal(wanted: BranchEvent | None, kind: str, event: Event) -> str:
    if wanted is None:
        return f"the plan has no {kind} event"
    patterns = wanted.branches
    if patterns and not any(fnmatch.fnmatchcase(event.branch, p) for p in patterns):
        return f"the plan's {kind} event names {', '.join(patterns)}, not {event.branch}"
    return ""


def may_excuse(plan: Plan) -> bool:
    """Whether what changed can excuse a job at all."""
    events = (plan.events.push, plan.events.pull_request)
    return any(e is not None and (e.touching or e.unless_only) for e in events) or any(j.touching for j in plan.jobs)


def _excuse(plan: Plan, job: Job, event: Event) -> str:
    """Why nothing that a job watches has changed; empty when something has, or nobody knows."""
    changed = event.changed_of(job.id)
    named = named_by(job)
    if changed is not None and any(touches(named, f) for f in changed):
        return ""
    branches = {EventKind.PUSH: plan.events.push, EventKind.PULL_REQUEST: plan.events.pull_request}
    wanted = branches.get(event.kind)  # type: ignore[call-overload]  # a word is its enumeration's member
    if changed is None or event.kind not in branches:
        return ""
    if wanted is not None and wanted.unless_only and all(covers(wanted.unless_only, f) for f in changed):
        return f"only files of {', '.join(wanted.unless_only)} changed"
    for looked in (wanted.touching if wanted is not None else (), job.touching):
        if looked and not any(touches(looked, f) for f in changed):
            return f"no changed file is one of {', '.join(looked)}"
    return ""


def _alone(plan: Plan, job: Job, event: Event, earlier: Earlier | None, *, asked: bool = False) -> JobIntent:
    """A job for itself, without those it waits for; `asked`: it runs whatever changed."""
    chosen = event.kind == "manual" and job.id in event.jobs
    if event.kind == "manual" and event.jobs and not chosen and not asked:
        return JobIntent(job, Fate.NOT_CHOSEN, "it was not chosen")
    named = next((s.jobs for s in plan.events.schedules if event.kind == "schedule" and s.name == event.schedule), ())
    if job.housekeeping and not chosen and job.id not in named:
        return JobIntent(job, Fate.NOT_ASKED, "it is housekeeping: a schedule that names it runs it")
    if named and job.id not in named and not asked:
        return JobIntent(job, Fate.NOT_CHOSEN, f"{event} names other jobs")
    cells = expand(job)
    total = len(cells)
    context = {**event.context(), "job": job.id, **job.pin}
    if job.when is not None:
        fitting = [c for c in cells if job.when.holds({**context, **c.values})]
        if not fitting and not chosen:
            return JobIntent(job, Fate.NOT_ASKED, f"its when ({job.when}) does not hold for {event}")
        cells = fitting or cells
    excuse = "" if asked else _excuse(plan, job, event)
    if excuse:
        return JobIntent(job, Fate.EXCUSED, excuse)
    blind: BlindSpots | None = None
    examples: tuple[dict[str, str], ...] = ()
    if job.sample and (not job.sample.events or event.kind in job.sample.events):
        sampled = choose(job, cells, (earlier.chosen.get(job.id, ()) if earlier else ()))
        cells, blind, examples = sampled.cells, sampled.blind, tuple(sampled.examples)
    if event.cells is not None:
        cells = [c for c in expand(job) if event.cells.holds({**context, **c.values})]
        if not cells:
            return JobIntent(job, Fate.NOT_CHOSEN, f"it has no cell {event.cells}")
    return JobIntent(job, cells=tuple(cells), blind=blind, examples=examples, left_out=total - len(cells))


def _include_given(plan: Plan, event: Event, by_id: dict[str, JobIntent], earlier: Earlier | None) -> None:
    """Excused jobs run when a job that hands files over to them does: they would be given something else."""
    for rank in order(plan):
        for job in (plan.job(name) for name in rank):
            if by_id[job.id].fate is not Fate.EXCUSED:
                continue
            giver = next((g for g in awaited_by(plan, job) if plan.job(g).hand_over and by_id[g].runs), None)
            if giver is not None:
                by_id[job.id] = replace(
                    _alone(plan, job, event, earlier, asked=True), because=f"{giver}, whose files it is given, runs"
                )


def awaited_by(plan: Plan, job: Job) -> list[str]:
    """The jobs that a job waits for, the near ones first."""
    found: list[str] = []
    queue = [a.job for a in job.after]
    while queue:
        name = queue.pop(0)
        if name not in found:
            found.append(name)
            queue += [a.job for a in plan.job(name).after]
    return found


def _include_awaited(plan: Plan, event: Event, by_id: dict[str, JobIntent], earlier: Earlier | None) -> None:
    """Jobs that running ones wait for run too, where only what changed or what was chosen left them out."""
    queue = [job for job in plan.jobs if by_id[job.id].runs]
    while queue:
        job = queue.pop()
        for other in job.after:
            found = by_id[other.job]
            if found.runs or found.fate is Fate.NOT_ASKED:
                continue
            again = _alone(plan, found.job, replace(event, cells=None), earlier, asked=True)
            if again.runs:
                by_id[other.job] = replace(again, because=f"{job.id} waits for it")
                queue.append(found.job)


def _exclude_waiting(plan: Plan, by_id: dict[str, JobIntent]) -> None:
    changed = True
    while changed:
        changed = False
        for job in plan.jobs:
            lacking = next((a.job for a in job.after if by_id[a.job].fate is not Fate.RUNS), None)
            if by_id[job.id].runs and lacking is not None:
                why = f"it waits for {lacking}, which does not run: {by_id[lacking].reason}"
                by_id[job.id] = JobIntent(job, Fate.LACKS, why)
                changed = True


def steps_for(job: Job, values: Mapping[str, str], event: Event) -> list[tuple[Step, str]]:
    """The steps of a cell, each with the reason why it is skipped (empty when it runs)."""
    context = {**event.context(), "job": job.id, **job.pin, **values}
    return [
        (step, "" if step.when is None or step.when.holds(context) else f"its when ({step.when}) does not hold here")
        for step in job.steps
    ]


def order(plan: Plan) -> list[list[str]]:
    """The jobs in ranks: those of a rank wait for none of the same or a later one."""
    rank: dict[str, int] = {}

    def of(job: Job) -> int:
        if job.id not in rank:
            rank[job.id] = 0
            rank[job.id] = 1 + max((of(plan.job(a.job)) for a in job.after), default=-1)
        return rank[job.id]

    ranks: dict[int, list[str]] = {}
    for job in plan.jobs:
        ranks.setdefault(of(job), []).append(job.id)
    return [ranks[r] for r in sorted(ranks)]
