"""Commands about projects: added, started, told of pull requests, tested together, tried."""

from __future__ import annotations

import time
from pathlib import Path
from typing import Annotated

import typer

from myriant.cli.connection import Connection
from myriant.cli.errors import stop
from myriant.cli.place import Data
from myriant.core.written import plain

projects = typer.Typer(no_args_is_help=True, help="The repositories that are watched.")


@projects.command(name="add")
def add(
    address: Annotated[str, typer.Argument(help="A path, or an address that git can fetch.")],
    name: Annotated[str | None, typer.Option(help="Its name; from the address by default.")] = None,
    description: Annotated[str, typer.Option(help="A line about it.")] = "",
) -> None:
    """Watch a repository: by a hook where it lies on this machine, else by polling."""
    if Path(address).exists():
        address = str(Path(address).resolve())
    added = Connection().post("/projects", {"address": address, "name": name, "description": description})
    typer.echo(f"project {added['name']}: {added['branches']} branches; {added['said']}. The next push starts a run.")


@projects.command(name="list")
def list_projects() -> None:
    """List the projects."""
    for p in Connection().get("/projects"):
        newest = p["newest"]
        state = f"#{newest['number']} {newest['verdict']}" if newest else "no run yet"
        trouble = f"  cannot be read: {p['trouble']}" if p["trouble"] else ""
        typer.echo(f"{p['name']:<24} {state:<18} {p['address']}{trouble}")


@projects.command(name="start")
def start_by_hand(
    name: Annotated[str, typer.Argument(help="The project.")],
    ref: Annotated[str, typer.Option(help="A branch, tag or commit; the main branch by default.")] = "",
    job: Annotated[list[str], typer.Option(help="Only this job and what it waits for (repeatable).")] = [],  # noqa: B006
    cells: Annotated[str, typer.Option(help="Only these cells: python<=3.9")] = "",
) -> None:
    """Start a run by hand."""
    typer.echo(Connection().post(f"/projects/{name}/runs", {"ref": ref, "jobs": job, "cells": cells})["said"])


@projects.command(name="pull-request")
def tell_pull_request(
    name: Annotated[str, typer.Argument(help="The project.")],
    number: Annotated[int, typer.Argument(help="The pull request's number.")],
    source: Annotated[str | None, typer.Option("--from", help="Its own branch.")] = None,
    target: Annotated[str | None, typer.Option("--into", help="The branch it is to be merged into.")] = None,
    title: Annotated[str, typer.Option(help="Its title.")] = "",
    state: Annotated[str, typer.Option(help="open, merged or closed.")] = "open",
    trusted: Annotated[bool | None, typer.Option("--trusted/--stranger", help="Whether its author may write.")] = None,
) -> None:
    """Tell of a pull request: opened, updated, merged or closed."""
    wish = {"source": source, "target": target, "title": title, "state": state, "trusted": trusted}
    typer.echo(Connection().put(f"/projects/{name}/pull-requests/{number}", wish)["said"] or "nothing was started")


@projects.command(name="together")
def test_together(
    name: Annotated[str, typer.Argument(help="The project.")],
    pulls: Annotated[list[int], typer.Argument(help="Numbers of open pull requests, in the order of merging.")],
    merge: Annotated[bool, typer.Option("--merge", help="Push them to their target once they are clear.")] = False,
    wait: Annotated[bool, typer.Option("--wait", help="Wait until it is known.")] = False,
) -> None:
    """Test pull requests together, as their target would become, and find which of them makes the gate hold.

    Exit status with --wait: 0 when all of them are clear together, 1 when some are left out.
    """
    server = Connection()
    number = server.post(f"/projects/{name}/batches", {"pulls": pulls, "merge": merge})["number"]
    while True:
        found = next(b for b in server.get(f"/projects/{name}/pull-requests")["batches"] if b["number"] == number)
        if not wait or found["state"] != "testing":
            break
        time.sleep(0.5)
    typer.echo(plain(f"batch {number}: {found['said']}"))
    raise typer.Exit(1 if wait and any(p["state"] == "out" for p in found["pulls"]) else 0)


@projects.command(name="drill")
def drill_project(name: Annotated[str, typer.Argument(help="The project.")]) -> None:
    """Try the gate with artificial failures in a throw-away copy, and read every place.

    Exit status: 0 when it holds, 1 when it does not.
    """
    server = Connection()
    found = server.post(f"/projects/{name}/drill", {})
    while found["goes_on"]:
        time.sleep(0.5)
        found = server.get(f"/projects/{name}/drill")
    if found["refused"]:
        stop(found["refused"])
    told = found["came"]
    for step in told["steps"]:
        typer.echo(plain(f"{'as it must' if step['right'] else 'WRONG':<10} {step['expected']:<6} {step['title']}"))
        for place in step["places"]:
            if not place["right"]:
                typer.echo(plain(f"{'':<18}{place['place']} says {place['said']}"))
    typer.echo(plain(told["said"]))
    raise typer.Exit(0 if told["passed"] else 1)


@projects.command(name="event-secret")
def event_secret(name: Annotated[str, typer.Argument(help="The project.")]) -> None:
    """Print the secret with which events told to POST /api/v1/events are signed."""
    typer.echo(Connection().post(f"/projects/{name}/event-secret", {})["secret"])


@projects.command(name="coming")
def coming(name: Annotated[str, typer.Argument(help="The project.")]) -> None:
    """Say what the next push runs, how it is heard, and when the schedules come."""
    found = Connection().get(f"/projects/{name}/coming")
    typer.echo(found["next_push"] or "there is no usable plan on the main branch")
    typer.echo(
        "pushes are heard at once" if found["hooked"] else f"the repository is looked at next at {found['next_look']}"
    )
    for s in found["schedules"]:
        typer.echo(f"{s['name']}: {s['words']}, {s['branch']}; next {s['at']}")


@projects.command(name="reread")
def reread_reports(name: Annotated[str, typer.Argument(help="The project.")], data: Data) -> None:
    """Read all kept reports again with today's readers and say what differs; verdicts stay as they are."""
    from myriant.cli.site import site_beside
    from myriant.flow.errors import FlowError
    from myriant.flow.upkeep.rereading import reread

    total = differing = 0
    try:
        for found in reread(site_beside(data), name):
            total += 1
            if found is not None:
                differing += 1
                typer.echo(f"#{found.run} {found.cell} {found.path}: {found.stored}, now {found.now}")
    except FlowError as error:
        stop(str(error), error.mend)
    typer.echo(f"{total} reports read again, {differing} differ")
    raise typer.Exit(1 if differing else 0)
