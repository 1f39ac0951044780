"""An installation of its own for measurements, with the demo loaded."""

from __future__ import annotations

import shutil
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from myriant.cli.database import free_port
from myriant.cli.place import Place
from myriant.cli.up import Installation
from myriant.demo.scenario import git
from myriant.flow.admin.projects import add_project


@contextmanager
def installed(slots: int = 4, share: Sequence[Path] = ()) -> Iterator[Installation]:
    folder = Path(tempfile.mkdtemp(prefix="myriant-bench-"))
    folder.chmod(0o755)
    installation = Installation(
        Place(folder / "data"), free_port(), slots, share, tell=lambda text: print(text, file=sys.stderr)
    )
    try:
        installation.begin()
        yield installation
    finally:
        installation.stop()
        shutil.rmtree(folder, ignore_errors=True)


def watched_repository(installation: Installation, name: str, plan: str) -> Path:
    """A watched repository with a plan that is not committed yet; its work tree."""
    site = installation.site
    assert site is not None
    origin, tree = installation.place.data / f"{name}.git", installation.place.data / name
    git(Path("/"), "init", "--quiet", "--bare", "--initial-branch=main", str(origin))
    git(Path("/"), "clone", "--quiet", str(origin), str(tree))
    add_project(site, str(origin), name)
    (tree / "myriant.toml").write_text(plan)
    git(tree, "checkout", "--quiet", "-B", "main")
    git(tree, "add", "--all")
    return tree
