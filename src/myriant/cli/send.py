"""`myriant send`: results made elsewhere, as a cell of an upload run."""

from __future__ import annotations

import hashlib
import itertools
import subprocess
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Annotated

import typer

from myriant.cli.connection import Connection
from myriant.cli.errors import stop
from myriant.core.plan.selectors import SelectorError, parse_selector

_TRIES = 7  # of each call, before the command gives up
_PIECE = 16 << 20  # bytes sent at once; the server takes no more


def send(
    project: Annotated[str, typer.Argument(help="The project.")],
    files: Annotated[list[Path], typer.Argument(help="Reports: JUnit XML or TAP.")],
    job: Annotated[str, typer.Option(help="The job that they belong to, such as on-site.")],
    cell: Annotated[str, typer.Option(help="The cell, such as python=3.12,machine=pump.")] = "",
    commit: Annotated[str, typer.Option(help="The commit that was tested; else the one checked out here.")] = "",
    branch: Annotated[str, typer.Option(help="The branch; else one that the commit is on, the main one first.")] = "",
    kind: Annotated[str, typer.Option(help="The kind of tests.")] = "unit",
    version: Annotated[str, typer.Option(help="The version of the application that was tested.")] = "",
    of: Annotated[
        int, typer.Option(help="Cells of this job that are sent in all: the run says how many are missing.")
    ] = 0,
    coverage: Annotated[list[Path], typer.Option(help="Coverage reports (repeatable).")] = [],  # noqa: B006
    analysis: Annotated[list[Path], typer.Option(help="SARIF files (repeatable).")] = [],  # noqa: B006
) -> None:
    """Send results made elsewhere; they are treated like those of a run. Run again after a break, it goes on."""
    every = [*((f, "tests") for f in files), *((f, "coverage") for f in coverage), *((f, "analysis") for f in analysis)]
    missing = next((f for f, _ in every if not f.is_file()), None)
    if missing is not None:
        stop(f"{missing} is no file", "name the report files themselves")
    values = _values(cell)
    commit = commit or _head()
    offers = [{"path": str(f), "digest": _digest(f), "size": f.stat().st_size, "content": c} for f, c in every]
    said = (project, commit, branch, job, cell, kind, version, *(f"{o['path']} {o['digest']}" for o in offers))
    wish = {
        "id": sending_id([str(s) for s in said]),
        "commit": commit,
        "branch": branch,
        "job": job,
        "values": values,
        "kind": kind,
        "version": version,
        "files": offers,
        "expected": of,
    }
    server = Connection()
    told = server.post_again(f"/projects/{project}/sendings", wish, tries=_TRIES)
    if told["run"] is not None:
        typer.echo(f"this was sent before: run #{told['run']}")
        return
    for number, (file, _) in enumerate(every):
        if told["offsets"][number]:
            typer.echo(f"{file}: going on from byte {told['offsets'][number]:,}")
        with file.open("rb") as source:
            for offset, size in pieces_of(file.stat().st_size, told["offsets"][number]):
                source.seek(offset)
                path = f"/projects/{project}/sendings/{told['id']}/files/{number}"
                server.put_bytes(path, source.read(size), tries=_TRIES, offset=offset)
    became = server.post_again(f"/projects/{project}/sendings/{told['id']}/finish", {}, tries=_TRIES)
    typer.echo(f"run #{became['run']}: {became['address']}")


def _values(cell: str) -> dict[str, str]:
    try:
        pairs = [pair.split("=", 1) for pair in filter(None, cell.split(","))]
        if cell:
            parse_selector(cell)
        return {key.strip(): value.strip() for key, value in pairs}
    except (SelectorError, ValueError):
        stop(f"{cell!r} names no cell", "write for example --cell python=3.12,machine=pump", status=2)


def _head() -> str:
    found = subprocess.run(["git", "rev-parse", "HEAD"], capture_output=True, text=True, check=False)
    if found.returncode:
        stop("there is no commit here", "give the one that was tested: --commit", status=2)
    return found.stdout.strip()


def _digest(file: Path) -> str:
    with file.open("rb") as source:
        return hashlib.file_digest(source, "sha256").hexdigest()


def sending_id(parts: Sequence[str]) -> str:
    """The id of a sending by all that it says and holds: sending the same again goes on with it."""
    return hashlib.blake2b("\0".join(parts).encode("utf-8", "surrogatepass"), digest_size=16).hexdigest()


def pieces_of(size: int, begun: int) -> Iterator[tuple[int, int]]:
    """Offsets and sizes in which the rest of a file is sent."""
    edges = [*range(begun, size, _PIECE), size]
    return ((a, b - a) for a, b in itertools.pairwise(edges))
