"""Errors of the commands: said in one line with the mend, exit status 1."""

from __future__ import annotations

from typing import NoReturn

import typer


class Trouble(Exception):
    """Something a person at the command line can mend; `mend` says how."""

    def __init__(self, message: str, mend: str = "") -> None:
        super().__init__(message)
        self.mend = mend


def stop(message: str, mend: str = "", *, status: int = 1) -> NoReturn:
    typer.secho(f"myriant: {message}", fg=typer.colors.RED, err=True)
    if mend:
        typer.echo(f"         {mend}", err=True)
    raise typer.Exit(status)
