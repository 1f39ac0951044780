"""What an event makes happen under a plan, and why the rest does not."""

from __future__ import annotations

import fnmatch
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace

from myriant.core.matrix.expand import Cell, choose, expand
from myriant.core.matrix.sample import BlindSpots
from myriant.core.plan.globs import matches
from myriant.core.plan.model import BranchEvent, Job, Plan, Step
from myriant.core.plan.selectors import Selector


@dataclass(frozen=True, slots=True)
class Event:
    """Something that happened, or might; `changed` None: which files changed is not known."""

    kind: str  # push, pull-request, tag, schedule, manual, upload
    branch: str = ""  # the branch being changed: a pull request's target
    source: str = ""  # a pull request's own branch
    tag: str = ""
    schedule: str = ""
    changed: tuple[str, ...] | None = None
    jobs: tuple[str, ...] = ()  # manual: only these and what they wait for
    cells: Selector | None = None  # manual: only these

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


@dataclass(frozen=True, slots=True)
class JobIntent:
    """A job under an event: its cells, or why it does not run."""

    job: Job
    reason: str = ""  # why it does not run
    because: str = ""  # why it runs although it was not asked for
    cells: tuple[Cell, ...] = ()
    blind: BlindSpots | None = None
    examples: tuple[dict[str, str], ...] = ()
    left_out: int = 0  # cells that its when excludes

    @property
    def runs(self) -> bool:
        return not self.reason

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
        return Intent(event, reason, tuple(JobIntent(job, reason) for job in plan.jobs))
    by_id: dict[str, JobIntent] = {}
    for job in plan.jobs:
        by_id[job.id] = _alone(job, event, earlier)
    _include_awaited(plan, event, by_id, earlier)
    _exclude_waiting(plan, by_id)
    found = Intent(event, "", tuple(by_id[job.id] for job in plan.jobs))
    if not found.starts:
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
    if event.changed is None:
        return ""
    if wanted.unless_only and event.changed and all(_matches(wanted.unless_only, f) for f in event.changed):
        return f"only files of {', '.join(wanted.unless_only)} changed"
    if wanted.touching and not any(_matches(wanted.touching, f) for f in event.changed):
        return f"no changed file is one of {', '.join(wanted.touching)}"
    return ""


def _matches(globs: Sequence[str], path: str) -> bool:
    return any(matches(glob, path) for glob in globs)


def _alone(job: Job, event: Event, earlier: Earlier | None, *, asked: bool = False) -> JobIntent:
    """A job for itself, without those it waits for; `asked`: it runs whatever its when and touching say."""
    chosen = event.kind == "manual" and job.id in event.jobs
    if event.kind == "manual" and event.jobs and not chosen and not asked:
        return JobIntent(job, "it was not chosen")
    looked = () if event.kind == "manual" or asked else job.touching
    if looked and event.changed is not None and not any(_matches(looked, f) for f in event.changed):
        return JobIntent(job, f"no changed file is one of {', '.join(looked)}")
    cells = expand(job)
    total = len(cells)
    context = {**event.context(), "job": job.id, **job.pin}
    if job.when is not None:
        fitting = [c for c in cells if job.when.holds({**context, **c.values})]
        if not fitting and not chosen:
            return JobIntent(job, f"its when ({job.when}) does not hold for {event}")
        cells = fitting or cells
    blind: BlindSpots | None = None
    examples: tuple[dict[str, str], ...] = ()
    if job.sample and (not job.sample.events or event.kind in job.sample.events):
        sampled = choose(job, cells, (earlier.chosen.get(job.id, ()) if earlier else ()))
        cells, blind, examples = sampled.cells, sampled.blind, tuple(sampled.examples)
    if event.cells is not None:
        cells = [c for c in expand(job) if event.cells.holds({**context, **c.values})]
        if not cells:
            return JobIntent(job, f"it has no cell {event.cells}")
    return JobIntent(job, cells=tuple(cells), blind=blind, examples=examples, left_out=total - len(cells))


def _include_awaited(plan: Plan, event: Event, by_id: dict[str, JobIntent], earlier: Earlier | None) -> None:
    """Jobs that running ones wait for run too, where only what changed or what was chosen left them out."""
    queue = [job for job in plan.jobs if by_id[job.id].runs]
    while queue:
        job = queue.pop()
        for other in job.after:
            found = by_id[other.job]
            if found.runs or found.reason.startswith("its when"):
                continue
            again = _alone(found.job, replace(event, cells=None), earlier, asked=True)
            if again.runs:
                by_id[other.job] = replace(again, because=f"{job.id} waits for it")
                queue.append(found.job)


def _exclude_waiting(plan: Plan, by_id: dict[str, JobIntent]) -> None:
    changed = True
    while changed:
        changed = False
        for job in plan.jobs:
            lacking = next((a.job for a in job.after if not by_id[a.job].runs), None)
            if by_id[job.id].runs and lacking is not None:
                by_id[job.id] = JobIntent(job, f"it waits for {lacking}, which does not run: {by_id[lacking].reason}")
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
