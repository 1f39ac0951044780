"""Ten faults put into three real packages, over five versions of Python: one finding a fault, where, and by which commit.

`python -m tests.bench.real FOLDER`, where the folder holds the source archives of packages that ship their tests. The
faults are drawn by chance among everything that can be changed in their functions (as in tests.bench.mutants), with a
condition on the version drawn as well, and kept when one to forty of the package's own tests notice. Each comes as one
of four commits that are pushed together, the others adding a line of comment elsewhere; the one before is mended there.
"""

from __future__ import annotations

import json
import os
import random
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from tests.bench import mutants

from worlds import WHEELS, Repository, one_installation

VERSIONS = ("3.8", "3.9", "3.10", "3.11", "3.12")
WHERE = {  # a condition in the source: as a selector, and the versions in which it holds
    "": VERSIONS,
    "__import__('sys').version_info >= (3, 12)": ("3.12",),
    "__import__('sys').version_info < (3, 9)": ("3.8",),
    "__import__('sys').version_info[:2] == (3, 10)": ("3.10",),
    "__import__('sys').version_info < (3, 11)": ("3.8", "3.9", "3.10"),
}
PLAN = f"""version = 1
[jobs.unit]
runtime = ["python"]
vary = {{ python = {json.dumps(VERSIONS)} }}
[[jobs.unit.steps]]
name = "test"
command = "PYTHONPATH=$MYRIANT_SHARED/$MYRIANT_CELL_PYTHON/ready:.:src python -m pytest -q -p no:cacheprovider -o addopts= --junitxml=out/unit.xml TESTS"
collect = {{ tests = ["out/unit.xml"] }}
"""
PYTHONS = Path("/root/.pyenv/versions")


@dataclass(frozen=True, slots=True)
class Fault:
    file: str
    line: int
    text: str  # of the file, with it
    was: str
    now: str
    versions: tuple[str, ...]
    begin: int  # places in the file's text, of what was there
    end: int
    written: str  # in its place, with the condition


def unpacked(archive: Path, folder: Path) -> Path:
    subprocess.run(["tar", "-xzf", str(archive), "-C", str(folder), "--no-same-owner"], check=True)
    return next(p for p in folder.iterdir() if p.is_dir())


def tests_of(tree: Path) -> str:
    return "tests" if (tree / "tests").is_dir() else str(next(iter(tree.glob("*/tests"))).relative_to(tree))


def ran(tree: Path, version: str, *words: str) -> subprocess.CompletedProcess[str]:
    """The package's own tests under a version. Raises TimeoutExpired."""
    python = next(PYTHONS.glob(f"{version}.*")) / "bin/python"
    return subprocess.run(
        [python, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-o", "addopts=", *words, tests_of(tree)],
        cwd=tree,
        env={**os.environ, "PYTHONPATH": f"{WHEELS / version / 'ready'}:.:src"},
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
    )


def failing(tree: Path, version: str) -> int | None:
    """How many of the package's own tests fail under a version; None if they do not end."""
    try:
        done = ran(tree, version, "--maxfail=60")
    except subprocess.TimeoutExpired:
        return None
    found = re.search(r"(\d+) failed", done.stdout)
    return int(found[1]) if found else (0 if done.returncode == 0 else None)


def faults(tree: Path, rng: random.Random, wanted: str | None = None, only: str = "") -> Iterator[Fault]:
    """Faults that one to forty tests notice, drawn by chance: all under one condition, or in one file, if wanted."""
    every_file = (
        p for p in sorted(tree.rglob("*.py")) if p.parent != tree and str(p.relative_to(tree)).startswith(only)
    )
    aside = re.compile(r"tests?|docs?|examples?|setup\.py|conftest\.py")
    sources = [p for p in every_file if not any(aside.fullmatch(part) for part in p.relative_to(tree).parts)]
    root, mutants.SOURCES = mutants.SOURCES, tree
    try:
        every = [m for p in sources for m in mutants.mutants_of(p) if m.now != "pass"]
    finally:
        mutants.SOURCES = root
    for m in rng.sample(every, len(every)):
        condition, versions = rng.choice(list(WHERE.items())) if wanted is None else (wanted, WHERE[wanted])
        file = tree / m.file
        text = file.read_text()
        was = text[m.begin : m.end]
        now = f"({m.now} if {condition} else {was})" if condition else m.now
        changed = text[: m.begin] + now + text[m.end :]
        file.write_text(changed)
        try:
            noticed = failing(tree, versions[0])
        finally:
            file.write_text(text)
        if noticed is not None and 1 <= noticed <= 40:
            yield Fault(m.file, m.line, changed, was, m.now, versions, m.begin, m.end, now)


def told(repo: Repository, run: dict[str, Any], fault: Fault, commit: str) -> dict[str, Any]:
    """What the product says of a run with one fault more."""
    end = time.monotonic() + 60
    while time.monotonic() < end:
        found = [f for f in repo.findings(run)["findings"] if f["mark"] in ("new", "first")]
        if found and all(f["control"] not in (None, "unsure") for f in found):
            break
        time.sleep(0.5)
    ranks, wheres = [], []
    for finding in found:
        test = finding["tests"][0]["test"]
        changes = repo.world.get(f"/projects/{repo.name}/runs/{run['run']['number']}/tests/{test}/changes")
        order = [c["commit"] for c in changes["commits"] if c["because"]]
        ranks.append(order.index(commit) + 1 if commit in order else None)
        cells = {c["key"].partition("=")[2] for c in finding["cells"]}
        wheres.append((cells == set(fault.versions), finding["where"], finding["where_sure"], finding["control"]))
    return {"findings": len(found), "tests": sum(len(f["tests"]) for f in found), "rank": ranks, "where": wheres}


def measure(folder: str, wanted: int = 10, seed: int = 14) -> None:
    rng = random.Random(seed)
    archives = sorted(Path(folder).glob("*.tar.gz"))
    with one_installation("myriant-real-") as world:
        for number, archive in enumerate(archives):
            tree = unpacked(archive, Path(tempfile.mkdtemp(prefix="real-")))
            files = {str(p.relative_to(tree)): p.read_text() for p in tree.rglob("*") if p.is_file() and is_text(p)}
            name = archive.name.rpartition("-")[0]
            repo = world.repository(name, None)
            repo.pushed({**files, "myriant.toml": PLAN.replace("TESTS", tests_of(tree))}, "Begin", within=300)
            before: Fault | None = None
            drawn = faults(tree, rng)
            for _ in range(wanted // len(archives) + (number < wanted % len(archives))):
                fault = next(drawn)
                commit = _pushed(repo, files, fault, before, rng)
                run = repo.run_of(repo.git("rev-parse", "HEAD").strip(), within=300)
                line = {
                    "measure": "real fault",
                    "package": name,
                    "file": fault.file,
                    "line": fault.line,
                    "was": fault.was,
                    "now": fault.now,
                    "versions": fault.versions,
                }
                print(json.dumps({**line, **told(repo, run, fault, commit)}), flush=True)
                before = fault


def is_text(path: Path) -> bool:
    try:
        return len(path.read_text()) >= 0
    except UnicodeDecodeError:
        return False


def _pushed(repo: Repository, files: dict[str, str], fault: Fault, before: Fault | None, rng: random.Random) -> str:
    """Four commits, one of them with the fault; its id."""
    if before is not None:
        repo.commit({before.file: files[before.file]}, f"Mend {before.file}")
    others = [f for f in files if f.endswith(".py") and f != fault.file and "setup" not in f]
    place, commit = rng.randrange(4), ""
    for at in range(4):
        if at == place:
            repo.commit({fault.file: fault.text}, f"Tidy {fault.file}")
            commit = repo.git("rev-parse", "HEAD").strip()
        else:
            other = rng.choice(others)
            files[other] = f"{files[other].rstrip()}\n# {rng.random()}\n"
            repo.commit({other: files[other]}, f"Note in {other}")
    repo.push()
    return commit


if __name__ == "__main__":
    measure(sys.argv[1])
