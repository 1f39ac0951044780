"""`myriant plan …`: a plan is right before it is committed."""

from __future__ import annotations

import json
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer

from myriant.cli.errors import stop
from myriant.core.matrix.expand import expand
from myriant.core.plan.model import FILE_NAME
from myriant.core.plan.read import Reading, read_plan
from myriant.flow.planning import starts_nothing

plans = typer.Typer(no_args_is_help=True, help="Read and check test plans.")
File = Annotated[Path, typer.Argument(help="The plan.")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]


@plans.command()
def check(file: File = Path(FILE_NAME), as_json: Json = False) -> None:
    """Say all that is wrong with a plan, with its place and mend; exit status 1 if anything is."""
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
    event: Annotated[str, typer.Option(help="The event: push.")] = "push",
    branch: Annotated[str, typer.Option(help="The branch of the event.")] = "main",
    as_json: Json = False,
) -> None:
    """List the cells that an event would run."""
    reading = _read(file)
    if reading.plan is None:
        for problem in reading.problems:
            typer.echo(str(problem), err=True)
        raise typer.Exit(1)
    if event != "push":
        stop(f"the event {event} is not yet executed", "use --event push")
    refusal = starts_nothing(reading.plan, branch)
    found = [cell for job in reading.plan.jobs for cell in expand(job)] if refusal is None else []
    if as_json:
        rows = [{"job": c.job, "values": c.values, "selected": c.selected, "advisory": c.advisory} for c in found]
        typer.echo(json.dumps({"cells": rows}, ensure_ascii=False, indent=1))
    elif refusal:
        typer.echo(f"nothing runs: {refusal}")
    else:
        for cell in found:
            typer.echo(f"{cell.job} {cell.key}".strip())


def _read(file: Path) -> Reading:
    try:
        return read_plan(file.read_bytes(), str(file))
    except OSError as error:
        stop(f"{file} cannot be read: {error.strerror}", "name the plan's file", status=2)
