"""Beyond the form: what is written correctly and yet cannot be meant, or cannot work here."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from myriant.core.plan.advice_of_identity import identity, told
from myriant.core.plan.advice_of_jobs import (
    Surroundings,
    cells,
    collects,
    dimensions,
    gated,
    repeated,
    retests,
    sample,
    versions,
)
from myriant.core.plan.advice_of_texts import LEFTOVER, machine_paths, missing_files, secrets, stored_secrets, texts
from myriant.core.plan.intent import Event, Fate, intent
from myriant.core.plan.keys import OF_CHANGE
from myriant.core.plan.model import Plan
from myriant.core.plan.problems import nearest
from myriant.core.plan.reporting import quoted
from myriant.core.plan.table import Reader


def advise(reader: Reader, plan: Plan, data: dict[str, Any], around: Surroundings | None) -> None:
    """Note what is doubtful in a plan whose form is right."""
    around = around or Surroundings()
    named = {job for schedule in plan.events.schedules for job in schedule.jobs}
    for job in plan.jobs:
        if job.housekeeping and job.id not in named:
            reader.warn(
                ("jobs", job.id, "housekeeping"),
                f"no schedule names {job.id}, so that it never runs by itself",
                f'write jobs = ["{job.id}"] in a schedule',
            )
        for look in (cells, dimensions, versions, sample, collects, repeated, gated, told, identity, retests):
            look(reader, job, around)
    for look_at_plan in (_copies, _never_started, _reports, _branches, _measures):
        look_at_plan(reader, plan, around)
    for path, text in texts(data, ()):
        machine_paths(reader, path, text)
        secrets(reader, path, text)
        if match := LEFTOVER.search(text):
            reader.warn(path, f'"{match[0]}" looks like a leftover', "write what is meant, or take it out", value=True)
    stored_secrets(reader, data, around)
    missing_files(reader, plan, around)


def _copies(reader: Reader, plan: Plan, around: Surroundings) -> None:
    titles: dict[str, str] = {}
    bodies: dict[Any, str] = {}
    for job in plan.jobs:
        at = ("jobs", job.id)
        if job.title in titles:
            reader.warn(
                (*at, "title"),
                f"{job.id} has the title of {titles[job.title]}: a leftover of copying?",
                "give it its own",
                value=True,
            )
        titles.setdefault(job.title, job.id)
        body = (
            tuple(job.vary.items()),
            tuple((s.command, s.folder, s.collect) for s in job.steps),
            str(job.when),
            str(job.drop),
        )
        if body in bodies:
            mend = "take one out, or say in what they differ"
            reader.warn(at, f"{job.id} does the same as {bodies[body]}: a leftover of copying?", mend)
        bodies.setdefault(body, job.id)
    seen: dict[Any, str] = {}
    for i, rule in enumerate(plan.rules):
        key = (rule.measure, rule.sign, rule.jobs, str(rule.cells), rule.folder, rule.level)
        if key in seen:
            mend = "keep the one that is meant"
            reader.warn(("gate", "rules", i), f"this rule limits what rule {seen[key]!r} limits already", mend)
        seen.setdefault(key, rule.name)


def sample_events(plan: Plan) -> list[Event]:
    """One event of each sort that the plan speaks of."""

    def named(patterns: Sequence[str]) -> list[str]:
        return [re.sub(r"[*?]+", "x", p) for p in patterns] or ["main"]

    found = []
    if plan.events.push is not None:
        found += [Event("push", b) for b in named(plan.events.push.branches)]
    if plan.events.pull_request is not None:
        found += [Event("pull-request", b, source="topic") for b in named(plan.events.pull_request.branches)]
    if plan.events.tags is not None:
        found += [Event("tag", tag=t) for t in (named(plan.events.tags) if plan.events.tags else ["v1"])]
    found += [Event("schedule", s.branch or "main", schedule=s.name) for s in plan.events.schedules]
    return found


def _never_started(reader: Reader, plan: Plan, around: Surroundings) -> None:
    """Jobs that no event starts, and jobs that wait for jobs which their event does not start."""
    if not any(job.when or job.after for job in plan.jobs):
        return
    started: dict[str, list[str]] = {job.id: [] for job in plan.jobs}
    waiting: dict[str, str] = {}
    for event in sample_events(plan):
        for found in intent(_without_samples(plan), event).jobs:
            if found.runs:
                started[found.job.id].append(str(event))
            elif found.fate is Fate.LACKS:
                waiting.setdefault(found.job.id, f"{found.reason} (at {event})")
    for job in plan.jobs:
        if job.id in waiting:
            reader.warn(
                ("jobs", job.id, "after"),
                f"job {job.id} never starts at one of its events: {waiting[job.id]}",
                "give both the same when, or take it out of after",
                value=True,
            )
        elif not started[job.id]:
            reader.warn(
                ("jobs", job.id, "when"),
                f"no event of the plan starts job {job.id}: its when is {job.when}",
                "name an event that the plan has, or add the event to [events]",
                value=True,
            )


def _without_samples(plan: Plan) -> Plan:
    return replace(plan, jobs=tuple(replace(j, sample=None) for j in plan.jobs))


def _reports(reader: Reader, plan: Plan, around: Surroundings) -> None:
    collects = [(j, c) for j in plan.jobs for s in j.steps for c in s.collect]
    if not any(c.tests for _, c in collects):
        reader.warn(
            ("jobs",),
            "no step collects test results: the verdict is by the steps' ends alone, and says “no tests”",
            'add collect = { tests = ["out/unit.xml"] } to a step',
        )
    for i, rule in enumerate(plan.rules):
        wanted = "coverage" if rule.measure.startswith("coverage.") else "tests"
        jobs = set(rule.jobs) or {j.id for j in plan.jobs}
        if not any(j.id in jobs and getattr(c, wanted) for j, c in collects):
            which = f"job {', '.join(sorted(rule.jobs))} collects" if rule.jobs else "the plan collects"
            reader.warn(
                ("gate", "rules", i, "measure"),
                f"{which} no {wanted}, so {rule.measure} could not be measured",
                f"add {wanted} = […] to a collect, or take the rule out",
                value=True,
            )


def _branches(reader: Reader, plan: Plan, around: Surroundings) -> None:
    for i, schedule in enumerate(plan.events.schedules):
        if around.branches is not None and schedule.branch and schedule.branch not in around.branches:
            near = nearest(schedule.branch, around.branches)
            path = ("events", "schedule", i, "branch")
            reader.warn(
                path,
                f"there is no branch {schedule.branch} now, so {schedule.name} would test nothing",
                f'did you mean "{near}"?' if near else f"branches: {', '.join(sorted(around.branches))[:200]}",
                value=True,
                edits=reader.replace_value(path, quoted(near)) if near else (),
            )


def _measures(reader: Reader, plan: Plan, around: Surroundings) -> None:
    for i, rule in enumerate(plan.rules):
        at = ("gate", "rules", i)
        if rule.cells is not None and (rule.measure.startswith("coverage.") or rule.limit == "baseline"):
            what = f"{rule.measure} within cells" if rule.measure.startswith("coverage.") else "a baseline within cells"
            reader.problem((*at, "cells"), f"{what} is not measured", "leave cells out, or name jobs instead")
        elif rule.cells is not None:
            dimensions = {d for job in plan.jobs for d in (*job.vary, *job.pin)} | {"job"}
            for key in sorted(rule.cells.keys() - dimensions):
                near = nearest(key, dimensions)
                mend = f"did you mean {near}?" if near else f"dimensions of this plan: {', '.join(sorted(dimensions))}"
                reader.problem((*at, "cells"), f'no job of the plan has the dimension "{key[:80]}"', mend)
        if rule.measure in OF_CHANGE and rule.limit == "baseline":
            reader.problem(
                (*at, rule.sign),
                f"{rule.measure} has no baseline: it is about what each change brings itself",
                "write a number",
                value=True,
            )
