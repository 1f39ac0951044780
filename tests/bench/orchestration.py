"""Sixteen cells of five seconds on four slots, against `xargs -P4`; a warm cell's first command; the sandbox."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import time
from pathlib import Path

from sqlalchemy import select
from tests.bench.measure import against, report
from tests.bench.place import installed, watched_repository

from myriant.demo.scenario import git
from myriant.flow.views.desk.projects import project_line
from myriant.runner.porter import Porter
from myriant.runner.removal import remove
from myriant.runner.sandbox import FIRST_USER, Room, find_sandbox
from myriant.store.tables import Attempt

SECONDS, CELLS = 5, 16
PLAN = """version = 1
[jobs.sleep]
vary = { n = [%s] }
[[jobs.sleep.steps]]
command = "sleep %d; mkdir out; echo '<testsuite><testcase name=\\"a\\"/></testsuite>' > out/a.xml"
collect = { tests = ["out/a.xml"] }
"""


def measure(samples: int = 3) -> None:
    with installed(slots=4) as installation:
        site = installation.site
        assert site is not None
        tree = watched_repository(installation, "sleep", PLAN % (", ".join(f'"{n}"' for n in range(CELLS)), SECONDS))

        def ours() -> None:
            (tree / "again").write_text(str(time.time()))  # the same content would be answered by the run before
            git(tree, "add", "--all")
            git(
                tree,
                "-c",
                "user.name=a",
                "-c",
                "user.email=a@fenmark.example",
                "commit",
                "--quiet",
                "--allow-empty",
                "-m",
                "again",
            )
            last = project_line(site, "sleep").newest
            before = last.number if last is not None else 0
            git(tree, "push", "--quiet", "origin", "HEAD:main")
            while (
                (newest := project_line(site, "sleep").newest) is None
                or newest.verdict == "undecided"
                or newest.number == before
            ):
                time.sleep(0.02)
            assert newest.verdict == "clear", newest

        def theirs() -> None:
            numbers = "\n".join(map(str, range(CELLS)))
            subprocess.run(
                ["xargs", "-P4", "-I{}", "sh", "-c", f"sleep {SECONDS}; echo {{}} > /dev/null"],
                input=numbers,
                text=True,
                check=True,
            )

        against("16 cells of 5 s on 4 slots, from the push to the verdict", ours, theirs, samples=samples, limit=1.10)
        with site.store.transaction() as session:
            rows = session.execute(select(Attempt.created_at, Attempt.started_at)).all()
        report("from the lease to the first command", [(b - a).total_seconds() for a, b in rows[CELLS:] if b], "s")
    _sandbox()
    _collecting()


def _collecting() -> None:
    """1,000 files of 1 MB that a step left: taken through the porter, with their digests, against `tar` of them."""
    with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
        base = Path(folder)
        base.chmod(0o755)
        sandbox = find_sandbox(base)
        room = Room(base / "room", FIRST_USER)
        room.make()
        out = room.workspace / "out"
        out.mkdir()
        for i in range(1000):
            (out / f"{i:04d}.bin").write_bytes(os.urandom(1 << 20))
        room.give_to_user()
        porter = Porter(sandbox, room)
        copies = base / "copies"

        def ours() -> None:
            copies.mkdir()
            assert len(porter.take(["out/*.bin"], 0, copies)["out/*.bin"].found) == 1000
            shutil.rmtree(copies)

        def theirs() -> None:
            copies.mkdir()
            subprocess.run(["tar", "-C", str(room.workspace), "-cf", str(copies / "all.tar"), "out"], check=True)
            shutil.rmtree(copies)

        against("1,000 files of 1 MB collected, against tar", ours, theirs, samples=7, limit=1.5)
        porter.kill()
        remove(sandbox, room)


def _sandbox() -> None:
    """One `true` within the walls that steps get, against one without."""
    with tempfile.TemporaryDirectory(dir="/var/tmp") as folder:
        Path(folder).chmod(0o755)
        sandbox = find_sandbox(Path(folder))
        room = Room(Path(folder) / "room", FIRST_USER)
        room.make()
        room.give_to_user()
        words, environment, _ = sandbox.command(["/bin/true"], room=room, environment={"PATH": "/usr/bin:/bin"})
        against(
            f"a command within {sandbox.kind}",
            lambda: subprocess.run(words, env=environment, check=True),
            lambda: subprocess.run(["/bin/true"], check=True),
            samples=40,
        )
