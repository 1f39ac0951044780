"""`myriant inspect …`; the readers are imported when they are asked for, as every other command starts without them."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

inspect = typer.Typer(no_args_is_help=True, help="Say what a report file holds and what is odd about it.")
Files = Annotated[list[Path], typer.Argument(help="Report files.")]
Json = Annotated[bool, typer.Option("--json", help="Print JSON.")]


@inspect.command()
def results(files: Files, as_json: Json = False) -> None:
    """Read reports of test results; exit status 1 when one cannot be trusted."""
    from myriant.cli.inspecting import tell_results

    tell_results(files, as_json=as_json)


@inspect.command()
def coverage(files: Files, as_json: Json = False) -> None:
    """Read coverage reports; exit status 1 when one cannot be trusted."""
    from myriant.cli.inspecting import tell_coverage

    tell_coverage(files, as_json=as_json)
