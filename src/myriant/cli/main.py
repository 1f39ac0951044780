"""The `myriant` command."""

from __future__ import annotations

import json
import logging
import subprocess
import time
from pathlib import Path
from typing import Annotated
from urllib.parse import urlencode

import typer

from myriant.cli.attest import attest
from myriant.cli.connection import Connection
from myriant.cli.errors import Trouble, stop
from myriant.cli.inspect import inspect
from myriant.cli.keeping import accept, credential, runners, secret, waive
from myriant.cli.local import environment, here, reproduce
from myriant.cli.place import Data, Place
from myriant.cli.plans import plans
from myriant.cli.projects import projects
from myriant.cli.send import send
from myriant.settings import WrongSetting, misspelt, settings

app = typer.Typer(
    no_args_is_help=True,
    add_completion=False,
    pretty_exceptions_enable=False,
    help="Runs test suites over a matrix of runtime versions, gates commits, and says what is new, where and why.",
)
standin = typer.Typer(no_args_is_help=True, help="Simulated services of the outside, for trying things out.")
demo = typer.Typer(no_args_is_help=True, help="The demo's made-up world.")
app.add_typer(projects, name="project")
app.add_typer(plans, name="plan")
app.add_typer(demo, name="demo")
app.add_typer(standin, name="stand-in")
app.add_typer(inspect, name="inspect")
app.add_typer(secret, name="secret")
app.add_typer(attest, name="attest")
app.add_typer(runners, name="runners")
app.command()(here)
app.command()(reproduce)
app.command()(environment)
app.command()(send)
app.command()(accept)
app.command()(waive)
projects.command()(credential)


@app.callback()
def before_all() -> None:
    """Look at the settings before anything else."""
    try:
        settings()
    except WrongSetting as error:
        stop(str(error), error.mend, status=2)
    for said in misspelt():
        typer.echo(f"myriant: {said}", err=True)


Port = Annotated[int, typer.Option(min=1, max=65535, help="The port on 127.0.0.1.")]
Slots = Annotated[int, typer.Option(min=1, max=256, help="How many cells run side by side.")]

Share = Annotated[list[Path], typer.Option(help="A folder that every cell may read, at its own path (repeatable).")]


@app.command()
def up(
    data: Data,
    port: Port = 8420,
    slots: Slots = 4,
    share: Share = [],  # noqa: B006  # typer copies it
    with_demo: Annotated[bool, typer.Option("--demo", help="Load the demo.")] = False,
) -> None:
    """Start database, server, worker and one runner; stop them all with Ctrl-C."""
    from myriant.cli.up import up as run_up
    from myriant.demo.load import load_with_harbour

    try:
        run_up(data, port, slots, share, load_with_harbour if with_demo else None)
    except Trouble as trouble:
        stop(str(trouble), trouble.mend)


@app.command()
def server(port: Port = 8420) -> None:
    """Answer over HTTP (a part of `myriant up`)."""
    from myriant.api.app import make_app
    from myriant.api.serving import serve
    from myriant.cli.site import site_from_environment

    _log_to_stderr("server")
    site = site_from_environment()
    serve(make_app(site), port)


@app.command()
def worker() -> None:
    """Do the background work (a part of `myriant up`)."""
    from myriant.cli.site import site_from_environment
    from myriant.cli.work import run_worker

    _log_to_stderr("worker")
    run_worker(site_from_environment())


@app.command(hidden=True)
def door(place: Path, user: int) -> None:
    """Serve this machine's repositories with their owners' rights (a part of `myriant up` as root)."""
    from myriant.repos.door import keep_door

    keep_door(place, user)


@app.command()
def runner(
    server: Annotated[str, typer.Option(help="The server's address.")],
    token: Annotated[str, typer.Option(envvar="MYRIANT_RUNNER_TOKEN", help="The runner's token.")],
    name: Annotated[str | None, typer.Option(help="Its name; the host's by default.")] = None,
    slots: Slots = 4,
    work: Annotated[Path, typer.Option(help="Where attempts get their folders.")] = Path("/var/tmp/myriant-runner"),
    share: Share = [],  # noqa: B006  # typer copies it
    label: Annotated[list[str], typer.Option(help="A label that plans can ask for (repeatable).")] = [],  # noqa: B006
    runtimes: Annotated[
        Path | None, typer.Option(help="A TOML file of registered runtimes: [[runtime]] family, path.")
    ] = None,
    price: Annotated[float, typer.Option(min=0, help="What a minute of a slot costs, in your currency.")] = 0.0,
    machine_class: Annotated[str, typer.Option("--class", help="What kind of machine this is: large, arm, mac …")] = "",
) -> None:
    """Take cells from a server and execute them on this machine."""
    from myriant.runner.client import Refused
    from myriant.runner.program import run_runner
    from myriant.runner.runtimes import BadRegister

    _log_to_stderr("runner")
    try:
        run_runner(
            server,
            token,
            name=name,
            slots=slots,
            work=work,
            shared=share,
            labels=label,
            price=price,
            registered=runtimes,
            machine_class=machine_class,
        )
    except Refused as error:
        stop(f"the server refuses this runner: {error}")
    except BadRegister as error:
        stop(str(error), "mend the file, or leave --runtimes out", status=2)


@standin.command(name="host")
def standin_host(
    folder: Annotated[Path, typer.Option(help="Where its repositories lie.")],
    port: Port = 8421,
    token: Annotated[str, typer.Option(envvar="MYRIANT_HOST_TOKEN", help="Who shows it may write.")] = "",
) -> None:
    """Serve a made-up host of code with pull requests, for trying things out."""
    from myriant.standins.serving import serve_host

    _log_to_stderr("host")
    serve_host(folder, port, token)


@standin.command(name="shelf")
def standin_shelf(
    folder: Annotated[Path, typer.Option(help="Where its packages lie.")],
    port: Port = 8422,
    token: Annotated[str, typer.Option(envvar="MYRIANT_SHELF_TOKEN", help="Who shows it may write.")] = "",
    lies: Annotated[bool, typer.Option("--lies", help="Keep other bytes than it is given.")] = False,
) -> None:
    """Serve a made-up package index with a trial section, which says what is in use, for trying things out."""
    from myriant.standins.shelf import serve_shelf

    _log_to_stderr("shelf")
    serve_shelf(folder, port, token, lies=lies)


@app.command(name="sign-in")
def sign_in() -> None:
    """Print a new one-time sign-in link for this machine's installation."""
    typer.echo(Connection().post("/sign-in-links", {})["link"])


@app.command()
def morning(
    project: Annotated[str, typer.Argument(help="The project.")],
    zone: Annotated[str, typer.Option(help="The time zone whose evening it begins with, such as Europe/Oslo.")] = "UTC",
    as_json: Annotated[bool, typer.Option("--json", help="As JSON.")] = False,
) -> None:
    """Say whether the latest build may be used, and what happened since yesterday evening.

    Exit status: 0 it may be used, 1 it may not, 3 not known yet.
    """
    server, at = Connection(), f"/projects/{project}/morning"
    found = server.get(at, zone=zone)
    text = json.dumps(found, indent=1) if as_json else server.text(f"{at}.txt?{urlencode({'zone': zone})}").rstrip()
    typer.echo(text)
    raise typer.Exit({True: 0, False: 1, None: 3}[found["usable"]])


@app.command()
def report(
    project: Annotated[str, typer.Argument(help="The project.")],
    days: Annotated[int, typer.Option(min=1, help="So many of the newest days, beside as many before.")] = 30,
    branch: Annotated[str | None, typer.Option(help="Another branch than the main one.")] = None,
    release: Annotated[
        str | None, typer.Option(help="The way to this release, beside the way to the one before.")
    ] = None,
    beside: Annotated[str | None, typer.Option(help="Another branch, or another release, to stand beside it.")] = None,
    to: Annotated[Path | None, typer.Option(help="Write it there: a name that ends in .html or .pdf.")] = None,
) -> None:
    """Say how a branch did: what held, what differs from before, where its levels changed."""
    server, at = Connection(), f"/projects/{project}/report"
    asked = {"days": days, "branch": branch, "release": release, "beside": beside}
    if to is None:
        found = server.get(at, **asked)
        typer.echo(found["said"])
        for row in found["rows"]:
            typer.echo(f"  {row['title']:<36} {row['now']:>18} {row['before']:>18}  {row['said']}".rstrip())
        for change in found["changes"]:
            typer.echo(f"  {change['said']}: #{change['run']} {change['title']}")
        return
    if to.suffix not in (".html", ".pdf"):
        stop(f"{to} names no kind of file that a report can be", "let it end in .html or .pdf", status=2)
    wanted = urlencode({k: v for k, v in asked.items() if v is not None})
    to.write_bytes(server.data(f"{at}{to.suffix}?{wanted}"))
    typer.echo(f"written: {to}")


@app.command()
def verdict(
    commit: Annotated[str, typer.Argument(help="A commit, by any name that git knows here.")] = "HEAD",
    wait: Annotated[bool, typer.Option("--wait", help="Wait until it is decided.")] = False,
    within: Annotated[float, typer.Option(help="Wait at most so many seconds.")] = 1200,
    project: Annotated[str | None, typer.Option(help="Only in this project.")] = None,
    context: Annotated[str, typer.Option("--for", help='Ask one context, such as "push main" or "tag v1".')] = "",
) -> None:
    """Say a commit's word: the worst of its contexts.

    Exit status: 0 clear or exempt, 1 held, 3 undecided (or the server cannot be reached), 4 no verdict.
    """
    full = _resolve(commit)
    connection = Connection()
    end = time.monotonic() + within
    unseen = time.monotonic() + min(within, 10.0)  # a push takes a moment to be heard
    while True:
        found = connection.get_unless_away(f"/words/{full}", project=project, context=context or None)
        known = found or []
        settled = bool(known) and all(w["final"] or w["verdict"] == "held" for w in known)
        now = time.monotonic()
        if now >= end or not wait or settled or (found is not None and not known and now >= unseen):
            break
        time.sleep(0.2)
    if found is None:
        stop(f"the server at {connection.address} cannot be asked now", "is it running? myriant up", status=3)
    for w in known:
        where = f" ({w['context']})" if w["context"] else ""
        number = f" #{w['run']}" if w["run"] is not None else ""
        said = "no verdict" if w["verdict"] == "none" else w["verdict"]
        typer.echo(f"{w['project']}{number}{where}: {said}. {w['sentence']}\n{w['address']}".rstrip())
    verdicts = {w["verdict"] for w in known} - {"none"}
    if not verdicts:
        where = f" for {context}" if context else ""
        mend = "" if known else "is its project watched, and was the commit pushed? myriant project list"
        stop(f"there is no verdict on {full}{where}", mend, status=4)
    raise typer.Exit(1 if "held" in verdicts else 3 if "undecided" in verdicts else 0)


def _resolve(commit: str) -> str:
    if len(commit) in (40, 64) and all(c in "0123456789abcdef" for c in commit):
        return commit
    done = subprocess.run(
        ["git", "rev-parse", "--verify", "--quiet", "--end-of-options", f"{commit}^{{commit}}"],
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode != 0:
        stop(f"{commit} names no commit here", "give a full commit id, or go into a clone of the repository", status=4)
    return done.stdout.strip()


@demo.command(name="push")
def demo_push(
    what: Annotated[str, typer.Argument(help="What to push: break, slow, uncover, flaky, vanish, tangle or fix.")],
    data: Data,
) -> None:
    """Make a real commit in the demo's repository and push it."""
    from myriant.demo.scenario import WORDS, push

    if what not in WORDS:
        stop(f"there is no scenario {what!r}", f"choose one of: {', '.join(WORDS)}", status=2)
    if not Place(data).demo.exists():
        stop("the demo is not loaded", "run: make demo")
    for line in push(Place(data).demo, what):
        typer.echo(line)


@app.command(hidden=True)
def openapi() -> None:
    """Print the API's description, for the client generator."""
    from myriant.api.app import make_app
    from myriant.blobs import Blobs
    from myriant.flow.site import Site
    from myriant.store.engine import Store

    site = Site(
        Store("postgresql://nobody@127.0.0.1:1/none"), Blobs("memory://"), Path("/nonexistent"), "http://127.0.0.1"
    )
    typer.echo(json.dumps(make_app(site).openapi(), indent=1))


def _log_to_stderr(part: str) -> None:
    level = settings().log or ("WARNING" if part != "runner" else "INFO")
    logging.basicConfig(level=level, format=f"%(asctime)s  {part}: %(message)s", datefmt="%H:%M:%S")
    logging.getLogger("httpx").setLevel(logging.WARNING)


if __name__ == "__main__":
    app()
