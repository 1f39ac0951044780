"""`myriant here`, `reproduce` and `environment`: what runs elsewhere, on one's own machine.

What runs cells is imported when it is used: it takes a second to load, and every other command is loaded with this one.
"""

from __future__ import annotations

import os
import subprocess
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from myriant.cli.connection import Connection
from myriant.cli.errors import stop
from myriant.core.matrix.expand import Cell, expand
from myriant.core.plan.intent import Event
from myriant.core.plan.model import FILE_NAME, Job, Plan
from myriant.core.plan.read import read_plan
from myriant.core.plan.selectors import Selector, SelectorError, parse_selector
from myriant.core.written import counted
from myriant.repos.git import git
from myriant.repos.neutral_commit import made_up_commit

if TYPE_CHECKING:
    from myriant.cli import alone

Cells = Annotated[str, typer.Option("--cell", help="Only these cells: python=3.12")]
Log = Annotated[bool, typer.Option("--log", help="Show what the steps print.")]
Slots = Annotated[int, typer.Option(min=1, max=256, help="How many cells run side by side.")]
Share = Annotated[list[Path], typer.Option(help="A folder that every cell may read, at its own path (repeatable).")]


def here(
    job: Annotated[str, typer.Argument(help="Only this job.")] = "",
    cells: Cells = "",
    log: Log = False,
    slots: Slots = 2,
    share: Share = [],  # noqa: B006  # typer copies it
    folder: Annotated[Path, typer.Option(help="The working tree.")] = Path(),
) -> None:
    """Run the plan on the working tree as it stands. Exit status: 0 everything passed, 1 it did not."""
    from myriant.cli import alone
    from myriant.cli.covered import files_here

    text = _text(folder / FILE_NAME)
    plan = _plan(text, str(folder / FILE_NAME))
    commit, branch = alone.here_and_now(folder)
    chosen = _chosen(plan, job, _selector(cells))
    if not chosen:
        stop("no cell of the plan is meant by that", "list them: myriant plan cells", status=2)
    typer.echo(f"{counted(len(chosen), 'cell')} of {folder.resolve().name}, as it stands here")
    setting = alone.Setting(
        folder.resolve().name,
        commit,
        Event("manual", branch),
        text,
        lambda to: alone.copy_working_tree(folder, to),
        plan.coverage,
        files_here(folder),
    )
    _run(chosen, setting, slots=slots, log=log, share=share, changed_in=folder)


def reproduce(
    run: Annotated[int, typer.Argument(help="The run's number.")],
    cell: Annotated[str, typer.Argument(help="The cell: unit python=3.8, or a selector such as job=unit,python=3.8")],
    project: Annotated[str, typer.Option(help="The project; needed when the server has several.")] = "",
    shell: Annotated[bool, typer.Option("--shell", help="Open a shell in it instead of running its steps.")] = False,
    log: Log = True,
    share: Share = [],  # noqa: B006  # typer copies it
) -> None:
    """Rebuild a cell of a run on this machine, commit and settings alike, and run it. Exit status as `here`."""
    from myriant.cli import alone

    connection = Connection()
    names = [p["name"] for p in connection.get("/projects")]
    if not project and len(names) != 1:
        stop("the server has several projects", f"name one with --project: {', '.join(names[:20])}", status=2)
    project = project or names[0]
    view = connection.get(f"/projects/{project}/runs/{run}")
    text = connection.text(f"/projects/{project}/runs/{run}/plan")
    plan = _plan(text, f"the plan of #{run}")
    first, _, rest = cell.partition(" ")
    wanted = _selector(f"job={first}" + (f",{rest}" if rest else "") if "=" not in first else cell)
    chosen = _chosen(plan, "", wanted)
    if len(chosen) != 1:
        known = "; ".join(f"{c['job']} {c['key']}".strip() for c in view["cells"][:20])
        stop(f"{cell} means {counted(len(chosen), 'cell')} of #{run}, not one", f"it has: {known}", status=2)
    event = Event(view["run"]["event"], view["run"]["branch"], view["source"], view["tag"])

    def checkout(workspace: Path) -> None:
        source = f"{connection.address}/api/v1/projects/{project}/source"
        header = f"http.extraHeader=Authorization: {connection.authorization}"
        for words in (
            ["init", "--quiet", "--template="],
            ["-c", header, "fetch", "--quiet", "--depth=1", "--no-tags", source, view["tested"]],
            ["-c", "advice.detachedHead=false", "checkout", "--quiet", "--detach", "FETCH_HEAD"],
        ):
            done = subprocess.run(["git", *words], cwd=workspace, capture_output=True, text=True, check=False)
            if done.returncode:
                raise OSError(f"the commit could not be fetched: {done.stderr.strip()[-500:]}")
        if "commit" not in chosen[0][0].all_told:
            git(workspace, "checkout", "--quiet", "--detach", made_up_commit(workspace, "HEAD^{tree}"))

    setting = alone.Setting(project, view["tested"], event, text, checkout)
    _run(chosen, setting, slots=1, log=log, share=share, shell=shell)


def _packages(folder: Path) -> dict[str, str]:
    from myriant.runner.inside import beneath, look

    top = beneath.open_folder(str(folder.resolve()))
    try:
        return dict(look.packages(top)["packages"])
    finally:
        os.close(top)


def environment(
    against: Annotated[int | None, typer.Option(help="The number of an attempt to compare with.")] = None,
    folder: Annotated[Path, typer.Option(help="The working tree.")] = Path(),
) -> None:
    """Say what this machine is made of, or what differs from an attempt's. Exit status 1 if anything differs."""
    from myriant.flow.diagnose.machine import differences
    from myriant.runner import machine
    from myriant.runner.runtimes import find_runtimes

    runtimes = {f"{r.family} {r.version}": str(r.path) for r in find_runtimes()}
    plan = read_plan(_text(folder / FILE_NAME).encode()).plan if (folder / FILE_NAME).exists() else None
    tools = {words: _ask(words, folder) for job in (plan.jobs if plan else ()) for words in job.describe}
    mine = machine.record(runtimes, tools, _packages(folder))
    if against is None:
        for section, values in mine.items():
            for name, value in values.items():
                typer.echo(f"{section:<9} {name:<28} {value.splitlines()[0] if value else ''}")
        return
    other = Connection().get(f"/attempts/{against}/record")["machine"]
    wanted = other.get("runtimes", {})
    mine["runtimes"] = {f: v for f, v in wanted.items() if f"{f} {v}" in runtimes}
    differing, same = differences(mine, other)
    for d in differing:
        typer.echo(f"{d.section:<9} {d.name:<28} here {d.here or '(none)'}; there {d.there or '(none)'}")
    typer.echo(f"{len(differing)} differ, {same} are the same")
    raise typer.Exit(1 if differing else 0)


def _ask(words: str, folder: Path) -> str:
    from myriant.runner import machine

    done = subprocess.run(
        ["/bin/sh", "-c", words], cwd=folder, capture_output=True, text=True, errors="replace", timeout=30, check=False
    )
    return machine.shown((done.stdout + done.stderr).splitlines()) or f"exit status {done.returncode}"


def _run(
    chosen: list[tuple[Job, Cell]],
    setting: alone.Setting,
    *,
    slots: int,
    log: bool,
    share: list[Path],
    shell: bool = False,
    changed_in: Path | None = None,
) -> None:
    from myriant.cli import alone
    from myriant.runner.attempt.steps import Steps

    outcomes = alone.run_cells(
        chosen,
        setting,
        slots=slots,
        say=typer.echo,
        show_log=log,
        shared=[p.resolve() for p in share],
        steps=alone.ShellInstead if shell else Steps,
    )
    if shell:
        return
    typer.echo("")
    for line in alone.said(outcomes):
        typer.echo(line)
    if changed_in is not None:
        from myriant.cli.covered import covered

        for line in covered([files for o in outcomes for files in o.coverage], changed_in):
            typer.echo(line)
    binding = [o for o in outcomes if not o.cell.advisory]
    raise typer.Exit(1 if any(o.state != "passed" for o in binding) else 0)


def _text(file: Path) -> str:
    try:
        return file.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        stop(f"{file} cannot be read: {error}", "go to the top of a repository with a plan, or: myriant plan check")


def _plan(text: str, name: str) -> Plan:
    reading = read_plan(text.encode())
    if reading.plan is None:
        stop(f"{name} cannot be used: {reading.errors[0]}", "see all problems: myriant plan check")
    return reading.plan


def _selector(cells: str) -> Selector | None:
    try:
        return parse_selector(cells) if cells else None
    except SelectorError as error:
        stop(str(error), "write for example python<=3.9", status=2)


def _chosen(plan: Plan, job: str, selector: Selector | None) -> list[tuple[Job, Cell]]:
    """Cells in the order in which their jobs may run."""
    if job and job not in {j.id for j in plan.jobs}:
        stop(f"the plan has no job {job}", f"it has: {', '.join(j.id for j in plan.jobs)}", status=2)
    return [
        (j, cell)
        for j in plan.jobs
        if job in ("", j.id) and not (j.gated and not job)
        for cell in expand(j)
        if selector is None or selector.holds({**j.pin, **cell.values, "job": j.id})
    ]
