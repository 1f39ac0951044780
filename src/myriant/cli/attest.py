"""`myriant attest …`: signed statements of what was tested and made."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated

import typer

from myriant.cli.connection import Connection
from myriant.cli.errors import stop
from myriant.core.release.signing import holds
from myriant.core.release.statement import BadStatement, name_of, opened
from myriant.core.written import plain

attest = typer.Typer(no_args_is_help=True, help="Signed statements of what was tested and made.")


@attest.command()
def fetch(
    run: Annotated[int, typer.Argument(help="The number of a run that is clear.")],
    project: Annotated[str, typer.Option(help="The project.")],
) -> None:
    """Print the signed statement of a run."""
    typer.echo(json.dumps(Connection().get(f"/projects/{project}/runs/{run}/attestation"), indent=1))


@attest.command()
def key() -> None:
    """Print the public key of this installation's statements."""
    typer.echo(Connection().get("/attestation-key")["key"])


@attest.command()
def verify(
    statement: Annotated[Path, typer.Argument(help="The statement's file.")],
    files: Annotated[list[Path], typer.Argument(help="Files that it must be about.")] = [],  # noqa: B006
    by: Annotated[str, typer.Option("--key", help="The public key; the installation's own is asked for else.")] = "",
) -> None:
    """See whether a statement is signed and about these very files.

    Exit status: 0 when all of it holds, 1 when something does not, 2 when a file cannot be read.
    """
    try:
        text, contents = statement.read_bytes(), {f: f.read_bytes() for f in files}
    except OSError as error:
        stop(f"{error.filename} cannot be read: {error.strerror}", status=2)
    known = by or Connection().get("/attestation-key")["key"]
    try:
        said = opened(text, lambda signature, signed: holds(known, signature, signed))
    except BadStatement as error:
        stop(str(error))
    told = said["predicate"]
    typer.echo(plain(f"{told['project']} #{told['run']}, {told['tag'] or told['branch']} at {told['commit'][:12]}"))
    typer.echo(plain(told["sentence"]))
    wrong = 0
    for file, content in contents.items():
        name = name_of(said, content)
        wrong += not name
        typer.echo(plain(f"{file}: {f'is {name} of that run' if name else 'was NOT made by that run'}"))
    raise typer.Exit(1 if wrong else 0)
