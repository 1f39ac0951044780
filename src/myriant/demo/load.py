"""Loading the demo: two repositories with ten weeks of history, watched like any other."""

from __future__ import annotations

import os
import random
import shutil
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path

from myriant.demo import lockstep_past, tidebook_past
from myriant.demo.days import moments
from myriant.demo.harbour import open_harbour, open_shelf
from myriant.demo.people import INGRID, YUKI, Author
from myriant.demo.scenario import CLEAN, clone_of, commit, git
from myriant.flow.admin.projects import add_project, forget_project, project_names
from myriant.flow.history import PastCell, PastRun, accept_past, import_run, write_notes
from myriant.flow.site import Site
from myriant.flow.who import Person
from myriant.runner.runtimes import Runtime, find_runtimes

_HERE = Path(__file__).parent
_SAID = {
    "lockstep": "The state machine of Fenmark's canal locks, in Lua",
    "tidebook": "Tide heights from harmonic constituents, in Python",
}


def load_demo(site: Site, folder: Path, shared: Sequence[Path], say: Callable[[str], None], commits: int = 80) -> None:
    """Make the repositories that are not there yet, with their history, and watch them."""
    known = project_names(site)
    runtimes = find_runtimes()
    folder.mkdir(parents=True, exist_ok=True)
    wheels = [p.resolve() for p in shared]
    loaders: dict[str, Callable[[], None]] = {
        "lockstep": lambda: _load_lockstep(site, folder, runtimes, say, commits),
        "tidebook": lambda: _load_tidebook(site, folder, runtimes, wheels, say, commits),
    }
    for name, load in loaders.items():
        begun = folder / f"{name}.loading"  # left behind by a load that was interrupted
        if begun.exists() and name in known:
            say(f"the demo project {name} was not loaded to its end, and is loaded again")
            forget_project(site, name)
        elif name in known:
            continue
        begun.touch()
        load()
        begun.unlink()


def load_with_harbour(
    site: Site, folder: Path, shared: Sequence[Path], say: Callable[[str], None], host: str, shelf: str
) -> None:
    """The demo with its pull requests on the stand-in host, and a stand-in shelf for its packages, at their addresses."""
    load_demo(site, folder, shared, say)
    open_shelf(site, folder, shelf)
    open_harbour(site, folder, host, say)


def _load_lockstep(site: Site, folder: Path, runtimes: list[Runtime], say: Callable[[str], None], commits: int) -> None:
    luck = random.Random(1834)
    exact = {wish: _newest(runtimes, "lua", wish) for wish in ("5.1", "5.2", "5.3", "5.4")}
    versions = {wish: version for wish, version in exact.items() if version}
    if not versions:
        say("the demo project lockstep is left out: this machine has no Lua (apt-get install lua5.4)")
        return
    tree = _begin(folder, "lockstep", {})
    base = lockstep_past.pattern(tree, runtimes)

    def cells(i: int) -> list[PastCell]:
        return lockstep_past.cells(i, base, versions, luck)

    _live(
        site,
        folder,
        "lockstep",
        commits,
        lockstep_past.edit,
        cells,
        luck,
        say,
        no_run=lockstep_past.NO_RUN,
        superseded=lockstep_past.SUPERSEDED,
        accepted={lockstep_past.REFACTORED: "one loop stands for them, and goes through the same months"},
    )


def _load_tidebook(
    site: Site, folder: Path, runtimes: list[Runtime], shared: list[Path], say: Callable[[str], None], commits: int
) -> None:
    luck = random.Random(1872)
    wishes = sorted(
        {p.name for s in shared if s.is_dir() for p in s.iterdir() if p.is_dir()},
        key=lambda v: [int(x) for x in v.split(".")],
    )
    found = [(wish, exact) for wish in wishes if (exact := _newest(runtimes, "python", wish))]
    if not found:
        say("the demo project tidebook is left out: there are no wheels for a Python of this machine (make setup)")
        return
    newest = found[-1][0]
    tree = _begin(folder, "tidebook", {"@PYTHONS@": ", ".join(f'"{w}"' for w, _ in found), "@NEWEST@": f'"{newest}"'})
    python = next(r for r in runtimes if r.family == "python" and r.meets(newest))
    base = tidebook_past.pattern(_final(tree, folder), python, os.pathsep.join(map(str, shared)))

    def cells(i: int) -> list[PastCell]:
        return tidebook_past.cells(i, tree, base, found, luck)

    _live(
        site,
        folder,
        "tidebook",
        commits,
        tidebook_past.edit,
        cells,
        luck,
        say,
        no_run=tidebook_past.NO_RUN,
        superseded=tidebook_past.SUPERSEDED,
    )


def _final(tree: Path, folder: Path) -> Path:
    """A copy of the tree with every edit of the history, to ask its tests for their names."""
    copy = folder / "work" / "tidebook-final"
    shutil.rmtree(copy, ignore_errors=True)
    shutil.copytree(tree, copy)
    for i in range(tidebook_past.COUNT):
        tidebook_past.edit(copy, i)
    return copy


def _begin(folder: Path, name: str, filled: dict[str, str]) -> Path:
    origin, tree = folder / f"{name}.git", clone_of(folder, name)
    for path in (origin, tree):
        shutil.rmtree(path, ignore_errors=True)
    tree.parent.mkdir(parents=True, exist_ok=True)
    git(folder, "init", "--quiet", "--bare", "--initial-branch=main", str(origin))
    shutil.copytree(_HERE / name, tree, ignore=shutil.ignore_patterns("__pycache__", "out", "integration"))
    plan = tree / "myriant.toml"
    text = plan.read_text(encoding="utf-8")
    for mark, value in filled.items():
        text = text.replace(mark, value)
    plan.write_text(text, encoding="utf-8")
    (tree / ".gitignore").write_text("out/\nbuild/\n.venv/\n.coverage\n__pycache__/\n", encoding="utf-8")
    git(tree, "init", "--quiet", "--initial-branch=main")
    git(tree, "remote", "add", "origin", str(origin))
    return tree


def _live(
    site: Site,
    folder: Path,
    name: str,
    commits: int,
    edit: Callable[[Path, int], tuple[Author, str]],
    cells: Callable[[int], list[PastCell]],
    luck: random.Random,
    say: Callable[[str], None],
    *,
    no_run: set[int],
    superseded: int,
    accepted: dict[int, str] | None = None,
) -> None:
    """Live through the past: every commit for real, then every run through the ordinary reading and judging."""
    tree = clone_of(folder, name)
    times = moments(commits + 1, datetime.now(UTC), luck)
    commit(tree, INGRID, f"Begin {name}", at=times[0].isoformat())
    past: list[tuple[str, datetime, list[PastCell], int]] = [(_head(tree), times[0], cells(-1), -1)]
    for i in range(commits):
        author, message = edit(tree, i)
        commit(tree, author, message, at=times[i + 1].isoformat())
        past.append((_head(tree), times[i + 1], cells(i), i))
    git(tree, "update-ref", CLEAN, "HEAD")
    git(tree, "push", "--quiet", "origin", "HEAD:main")
    add_project(site, str(folder / f"{name}.git"), name, _SAID[name])
    accepted, numbers = accepted or {}, list[int]()
    for done, (head, at, told, i) in enumerate(past):
        if i in no_run:
            continue
        after = len(numbers) + 2 if i == superseded else None
        numbers.append(import_run(site, name, PastRun(head, "main", at, told, superseded_by=after)))
        if i in accepted:
            accept_past(site, name, numbers[-1], accepted[i], Person(0, YUKI.name, "maintainer"))
        if done % 20 == 19 or done == len(past) - 1:
            say(f"loading the demo: {name}, {done + 1} of {len(past)} commits")
    write_notes(site, name, numbers)


def _head(tree: Path) -> str:
    return git(tree, "rev-parse", "HEAD").strip()


def _newest(runtimes: list[Runtime], family: str, wish: str) -> str | None:
    return next((r.version for r in runtimes if r.family == family and r.meets(wish)), None)
