"""`myriant secret …`, `myriant runners …`, `myriant accept`, `myriant waive` and a repository's credential."""

from __future__ import annotations

import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Annotated

import typer

from myriant.cli.connection import Connection
from myriant.cli.errors import stop
from myriant.cli.place import Place, default_data
from myriant.core.written import counted, day

secret = typer.Typer(no_args_is_help=True, help="Values that only runners are given.")
runners = typer.Typer(no_args_is_help=True, help="The runners that this server knows.")
Project = Annotated[str, typer.Argument(help="The project.")]
Name = Annotated[str, typer.Argument(help="Its name, such as TIDE_API_KEY.")]


def accept(
    run: Annotated[int, typer.Argument(help="The run's number.")],
    project: Annotated[str, typer.Option(help="The project.")],
    reason: Annotated[str, typer.Option(help="Why it may be so; without one, what could be accepted is listed.")] = "",
) -> None:
    """Accept what a run has less than before: what its plan asks less, tests that vanished or are newly skipped.

    Exit status 1 when there is something to accept and no reason was given.
    """
    at = f"/projects/{project}/runs/{run}"
    server = Connection()
    found = server.get(at)["acceptable"]
    lines, tests = found["loosened"], found["tests"]
    if not lines and not tests:
        typer.echo(f"#{run} has nothing less than before that is not accepted")
        return
    for line in lines:
        typer.echo(f"the plan asks less: {line}")
    if tests:
        typer.echo(f"{counted(len(tests), 'test')} vanished or newly skipped")
    if not reason.strip():
        typer.echo(f'accept it with: myriant accept {run} --project {project} --reason "..."')
        raise typer.Exit(1)
    server.post(f"{at}/acceptances", {"reason": reason, "loosened": lines, "tests": tests})
    typer.echo("accepted; the run is judged again")


def waive(
    run: Annotated[int, typer.Argument(help="The number of the run that is held.")],
    project: Annotated[str, typer.Option(help="The project.")],
    rule: Annotated[str, typer.Option(help="The rule's name; without one, what can be waived is listed.")] = "",
    reason: Annotated[str, typer.Option(help="Why it need not hold, and where it is followed up.")] = "",
    days: Annotated[int, typer.Option(min=1, max=180, help="For how long.")] = 14,
    everywhere: Annotated[bool, typer.Option("--everywhere", help="Not only in the run's own context.")] = False,
) -> None:
    """Let a rule of the plan that holds a run not hold it for a time, down to the value it has there.

    Exit status 1 when something could be waived and no rule was given.
    """
    at = f"/projects/{project}/runs/{run}"
    server = Connection()
    if not rule:
        own = [j for j in server.get(at)["judged"] if not j["met"] and j["level"] == "block" and not j["built_in"]]
        for j in own:
            held = f", waived by {j['waived']['by']}" if j["waived"] else ""
            typer.echo(f"{j['name']}: {j['value'] or j['reason']}{held}")
        if not own:
            typer.echo(f"#{run} is held by no rule that can be waived")
            return
        typer.echo(f'waive one with: myriant waive {run} --project {project} --rule "..." --reason "..."')
        raise typer.Exit(1)
    until = datetime.now(UTC) + timedelta(days=days)
    body = {"rule": rule, "reason": reason, "until": until.isoformat(), "everywhere": everywhere}
    told = server.post(f"{at}/waivers", body)
    typer.echo(f"{rule} ({told['shown']}) is waived until {day(until)}; the run is judged again")


def credential(project: Project) -> None:
    """Give what opens the project's repository: a password or token, read from standard input, or asked for.

    It is tried at once, sealed, and shown to nobody; an empty one takes it away.
    """
    asked = sys.stdin.isatty()
    value = typer.prompt("Password", hide_input=True, default="") if asked else sys.stdin.read().rstrip("\n")
    Connection().put(f"/projects/{project}/credential", {"password": value})
    typer.echo("it opens the repository, and is kept sealed" if value else "none is kept any more")


@secret.command(name="set")
def set_secret(
    project: Project,
    name: Name,
    job: Annotated[list[str], typer.Option(help="Only for this job (repeatable).")] = [],  # noqa: B006
    event: Annotated[list[str], typer.Option(help="Only for this event (repeatable); all but pull requests.")] = [],  # noqa: B006
    branch: Annotated[list[str], typer.Option(help="Only for such branches, main or season/* (repeatable).")] = [],  # noqa: B006
) -> None:
    """Keep a secret; its value is read from standard input, or asked for."""
    value = typer.prompt("Value", hide_input=True) if sys.stdin.isatty() else sys.stdin.read().rstrip("\n")
    body = {"value": value, "jobs": job, "events": event, "branches": branch}
    Connection().put(f"/projects/{project}/secrets/{name}", body)
    typer.echo(f"{name} is kept; nobody can read it back")


@secret.command(name="list")
def list_secrets(project: Project) -> None:
    """List the secrets by name, with their limits and last use."""
    for s in Connection().get(f"/projects/{project}/secrets"):
        limits = [f"jobs {', '.join(s['jobs'])}"] if s["jobs"] else []
        limits += [f"events {', '.join(s['events'])}"] if s["events"] else []
        limits += [f"branches {', '.join(s['branches'])}"] if s["branches"] else []
        used = f"last used {s['used_at'][:16]} by {s['used_by']}" if s["used_at"] else "never used"
        lost = "" if s["readable"] else "  CANNOT BE OPENED with the key in force: set it anew"
        typer.echo(f"{s['name']:<28} {'; '.join(limits) or 'no limits'}; {used}{lost}")


@secret.command(name="remove")
def remove_secret(project: Project, name: Name) -> None:
    """Forget a secret."""
    Connection().delete(f"/projects/{project}/secrets/{name}")
    typer.echo(f"{name} is forgotten")


@secret.command(name="rotate-key")
def rotate(data: Annotated[Path, typer.Option(help="The data directory.", default_factory=default_data)]) -> None:
    """Seal every secret of this installation with a new key; servers started before need a restart."""
    from myriant.cli.site import site_beside
    from myriant.flow.admin.secrets import rotate_key
    from myriant.flow.sealing import make_key

    site, key = site_beside(data), Place(data).key  # first: from here on it is the folder's owner who works there
    fresh = key.with_suffix(".new")
    fresh.unlink(missing_ok=True)
    make_key(fresh)
    count = rotate_key(site, fresh)
    fresh.replace(key)  # the old key is gone in the same moment
    typer.echo(f"{count} secrets are sealed with a new key: {key}")


@runners.command(name="list")
def list_runners() -> None:
    """List the runners: slots, load, runtimes, how they are."""
    for r in Connection().get("/runners"):
        state = f"drained: {r['drained']}" if r["drained"] else "in touch" if r["in_touch"] else "not in touch"
        families: dict[str, list[str]] = {}
        for t in r["runtimes"]:
            families.setdefault(t["family"], []).append(t["version"])
        offered = "; ".join(f"{f} {', '.join(v)}" for f, v in families.items()) or "no runtimes"
        typer.echo(f"{r['name']:<20} {r['busy']} of {r['slots']} slots busy; {state}\n{'':<20} {offered}")


@runners.command(name="drain")
def drain(name: Annotated[str, typer.Argument()], reason: Annotated[str, typer.Option()] = "") -> None:
    """Give a runner nothing more; what it has goes on."""
    Connection().post(f"/runners/{name}/drain", {"reason": reason})
    typer.echo(f"{name} is given nothing more")


@runners.command(name="resume")
def resume(name: Annotated[str, typer.Argument()]) -> None:
    """Give a drained runner work again."""
    Connection().post(f"/runners/{name}/resume", {})
    typer.echo(f"{name} is given work again")


@runners.command(name="forget")
def forget(name: Annotated[str, typer.Argument()]) -> None:
    """Take a runner that is gone off the list."""
    Connection().delete(f"/runners/{name}")
    typer.echo(f"{name} is off the list")


@runners.command(name="add")
def add_runner(
    name: Annotated[str, typer.Argument(help="The runner's name; nobody else can use it.")],
    project: Annotated[list[str], typer.Option(help="Only cells of this project are given to it (repeatable).")] = [],  # noqa: B006
) -> None:
    """Make a token that only a runner of this name can use, and print the command that starts it."""
    given = Connection().put(f"/runner-tokens/{name}", {"projects": project or None})
    typer.echo(given["command"])


@runners.command(name="revoke")
def revoke_runner(name: Annotated[str, typer.Argument()]) -> None:
    """Take a runner's own token back, and what it runs with it."""
    Connection().delete(f"/runner-tokens/{name}")
    typer.echo(f"the token of {name} is worth nothing more")


@runners.command(name="token")
def token(
    revoke: Annotated[
        bool, typer.Option("--revoke", help="Revoke the shared tokens first; runners' own stay.")
    ] = False,
    data: Annotated[Path, typer.Option(help="The data directory.")] = Path(),
) -> None:
    """Print a new token for any runner of this installation; one of a runner's own is safer: runners add."""
    from myriant.cli.site import site_beside
    from myriant.flow.admin.people import new_runner_token

    place = default_data() if data == Path() else data
    if not Place(place).connection.exists():
        stop(f"no Myriant runs on {place}", "start it with: myriant up")
    typer.echo(new_runner_token(site_beside(place), revoke=revoke))
