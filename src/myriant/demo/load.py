"""Loading the demo: its repositories, watched like any other."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

from myriant.demo.people import INGRID
from myriant.demo.scenario import clone_of, commit, git
from myriant.flow.projects import add_project, project_names
from myriant.flow.site import Site

_HERE = Path(__file__).parent
_REPOSITORIES = {"lockstep": "The state machine of Fenmark's canal locks, in Lua"}


def load_demo(site: Site, folder: Path, say: Callable[[str], None]) -> None:
    """Make the repositories that are not there yet, watch them, and push their first commit."""
    known = project_names(site)
    for name, description in _REPOSITORIES.items():
        if name in known:
            continue
        say(f"loading the demo: {name}")
        _make(site, folder, name, description)


def _make(site: Site, folder: Path, name: str, description: str) -> None:
    origin, tree = folder / f"{name}.git", clone_of(folder, name)
    for path in (origin, tree):
        shutil.rmtree(path, ignore_errors=True)
    tree.parent.mkdir(parents=True, exist_ok=True)
    git(folder, "init", "--quiet", "--bare", "--initial-branch=main", str(origin))
    add_project(site, str(origin), name, description)
    shutil.copytree(_HERE / name, tree)
    git(tree, "init", "--quiet", "--initial-branch=main")
    git(tree, "remote", "add", "origin", str(origin))
    commit(tree, INGRID, f"Begin {name}")
    git(tree, "push", "--quiet", "origin", "HEAD:main")
