"""`myriant plan …`: a plan is right before it is committed."""

from __future__ import annotations

import json
import subprocess
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer

from myriant.cli.errors import stop
from myriant.core.plan.advice_of_jobs import Surroundings
from myriant.core.plan.format import format_plan
from myriant.core.plan.intent import Event, Intent, intent, order
from myriant.core.plan.keys import EVENTS
from myriant.core.plan.model import FILE_NAME, Plan
from myriant.core.plan.read import Reading, read_plan
from myriant.core.plan.reference import schema as plan_schema
from myriant.core.written import counted

plans = typer.Typer(no_args_is_help=True, help="Read, check, format and rehearse test plans.")
File = Annotated[Path, typer.Argument(help="The plan.")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]
Kind = Annotated[str, typer.Option("--event", help=f"The event: {', '.join(EVENTS)}.")]
Branch = Annotated[str, typer.Option(help="The branch of the event; a pull request's target.")]
From = Annotated[str, typer.Option("--from", help="A pull request's own branch.")]
Tag = Annotated[str, typer.Option(help="The tag of the event.")]
ScheduleName = Annotated[str, typer.Option("--schedule", help="The schedule of the event.")]
Changed = Annotated[list[str] | None, typer.Option(help="A file that the event changes (repeatable).")]
Jobs = Annotated[list[str] | None, typer.Option("--job", help="By hand: only this job (repeatable).")]


@plans.command()
def check(file: File = Path(FILE_NAME), as_json: Json = False) -> None:
    """Say all that is wrong with a plan, with its place and mend; exit status 1 if anything is an error."""
    reading = _read(file)
    if as_json:
        typer.echo(json.dumps({"problems": [asdict(p) for p in reading.problems]}, ensure_ascii=False, indent=1))
    else:
        for problem in reading.problems:
            place = f"{problem.file}:{problem.line}:{problem.column}"
            typer.echo(f"{place}: {problem.level}: {problem.message}\n    {problem.mend}")
        if not reading.problems:
            typer.echo(f"{file}: no problems")
    raise typer.Exit(1 if reading.errors else 0)


@plans.command()
def cells(
    file: File = Path(FILE_NAME),
    kind: Kind = "push",
    branch: Branch = "main",
    source: From = "",
    tag: Tag = "",
    schedule: ScheduleName = "",
    changed: Changed = None,
    jobs: Jobs = None,
    as_json: Json = False,
) -> None:
    """List the cells that an event would run."""
    found = _intent(file, kind, branch, source, tag, schedule, changed, jobs)[1]
    listed = [] if found.reason else found.cells
    if as_json:
        rows = [{"job": c.job, "values": c.values, "selected": c.selected, "advisory": c.advisory} for c in listed]
        typer.echo(json.dumps({"cells": rows}, ensure_ascii=False, indent=1))
    elif found.reason:
        typer.echo(f"nothing runs: {found.reason}")
    else:
        for cell in listed:
            notes = [n for n, said in (("not selected", not cell.selected), ("advisory", cell.advisory)) if said]
            typer.echo(f"{cell.job} {cell.key}".strip() + (f"  ({', '.join(notes)})" if notes else ""))


@plans.command()
def rehearse(
    file: File = Path(FILE_NAME),
    kind: Kind = "push",
    branch: Branch = "main",
    source: From = "",
    tag: Tag = "",
    schedule: ScheduleName = "",
    changed: Changed = None,
    jobs: Jobs = None,
    as_json: Json = False,
) -> None:
    """Say what an event would run, in what order, and why the rest would not."""
    plan, found = _intent(file, kind, branch, source, tag, schedule, changed, jobs)
    if as_json:
        told = [
            {
                "job": j.job.id,
                "runs": j.runs and not found.reason,
                "reason": j.reason,
                "because": j.because,
                "cells": j.selected,
                "not_selected": len(j.cells) - j.selected,
                "gated": j.job.gated,
            }
            for j in found.jobs
        ]
        document = {"event": str(found.event), "reason": found.reason, "order": order(plan), "jobs": told}
        typer.echo(json.dumps(document, ensure_ascii=False, indent=1))
        return
    typer.echo(f"{found.event}: {'nothing runs, because ' + found.reason if found.reason else _total(found)}")
    by_id = {j.job.id: j for j in found.jobs}
    for rank, ids in enumerate(order(plan), 1):
        for job in (by_id[i] for i in ids):
            if job.runs and not found.reason:
                more = f", {len(job.cells) - job.selected} not selected" if job.selected < len(job.cells) else ""
                why = f" ({job.because})" if job.because else ""
                gate = "; when the verdict is clear" if job.job.gated and not job.job.housekeeping else ""
                typer.echo(f"  {rank}. {job.job.id}: {counted(job.selected, 'cell')}{more}{gate}{why}")
            elif not found.reason:
                typer.echo(f"  –  {job.job.id}: not run, because {job.reason}")


def _total(found: Intent) -> str:
    jobs = [j for j in found.jobs if j.runs]
    return f"{counted(len(jobs), 'job')}, {counted(sum(j.selected for j in jobs), 'cell')}"


@plans.command()
def schema() -> None:
    """Print the plan format as a JSON Schema, for editors."""
    typer.echo(json.dumps(plan_schema(), indent=1))


@plans.command(name="format")
def format_file(
    file: File = Path(FILE_NAME),
    only_check: Annotated[bool, typer.Option("--check", help="Change nothing; exit status 1 if it would.")] = False,
) -> None:
    """Write a plan evenly: values, comments and order stay as they are."""
    text = _source(file).decode("utf-8", "replace")
    if read_plan(text.encode()).plan is None:
        stop(f"{file} has problems", f"see: myriant plan check {file}")
    done = format_plan(text)
    if only_check:
        raise typer.Exit(0 if done == text else 1)
    if done != text:
        file.write_text(done, encoding="utf-8")


def _intent(
    file: Path,
    kind: str,
    branch: str,
    source: str,
    tag: str,
    schedule: str,
    changed: list[str] | None,
    jobs: list[str] | None,
) -> tuple[Plan, Intent]:
    if kind not in EVENTS:
        stop(f"there is no event {kind}", f"events: {', '.join(EVENTS)}", status=2)
    reading = _read(file)
    if reading.plan is None:
        for problem in reading.problems:
            typer.echo(str(problem), err=True)
        raise typer.Exit(1)
    plan = reading.plan
    if kind == "schedule" and not schedule and len(plan.events.schedules) == 1:
        schedule = plan.events.schedules[0].name
    event = Event(
        kind,
        "" if kind == "tag" else branch,
        source,
        tag,
        schedule,
        tuple(changed) if changed else None,
        tuple(jobs or ()),
    )
    return plan, intent(plan, event)


def _source(file: Path) -> bytes:
    try:
        return file.read_bytes()
    except OSError as error:
        stop(f"{file} cannot be read: {error.strerror}", "name the plan's file", status=2)


def _read(file: Path) -> Reading:
    return read_plan(_source(file), str(file), _around(file))


def _around(file: Path) -> Surroundings | None:
    """What the work tree tells, when the plan stands at the root of one."""
    folder = file.resolve().parent
    listed = _git(folder, "ls-files", "-z", "--cached", "--others", "--exclude-standard")
    if listed is None or not (folder / ".git").exists():
        return None
    files = tuple(p for p in listed.split("\0") if p)
    return Surroundings(
        files=files,
        mentions=lambda word: _git(folder, "grep", "-qF", "--untracked", "-e", word) is not None,
        read=lambda path: (folder / path).read_text(errors="replace") if path in files else "",
    )


def _git(folder: Path, *words: str) -> str | None:
    done = subprocess.run(["git", "-C", str(folder), *words], capture_output=True, text=True, check=False)
    return done.stdout if done.returncode == 0 else None
