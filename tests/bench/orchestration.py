"""Eight cells of five seconds of sleep on four slots, against `xargs -P4` of the same commands."""

from __future__ import annotations

import subprocess
import time
from pathlib import Path

from tests.bench.measure import against
from tests.bench.place import installed

from myriant.demo.scenario import git
from myriant.flow import views
from myriant.flow.projects import add_project

SECONDS, CELLS = 5, 8
PLAN = """version = 1
[jobs.sleep]
vary = { n = [%s] }
[[jobs.sleep.steps]]
command = "sleep %d; mkdir out; echo '<testsuite><testcase name=\\"a\\"/></testsuite>' > out/a.xml"
collect = { tests = ["out/a.xml"] }
"""


def measure(samples: int = 5) -> None:
    with installed(slots=4) as installation:
        site = installation.site
        assert site is not None
        origin, tree = installation.place.data / "sleep.git", installation.place.data / "sleep"
        git(Path("/"), "init", "--quiet", "--bare", "--initial-branch=main", str(origin))
        git(Path("/"), "clone", "--quiet", str(origin), str(tree))
        add_project(site, str(origin), "sleep")
        (tree / "myriant.toml").write_text(PLAN % (", ".join(f'"{n}"' for n in range(CELLS)), SECONDS))
        git(tree, "checkout", "--quiet", "-B", "main")
        git(tree, "add", "--all")

        def ours() -> None:
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
            git(tree, "push", "--quiet", "origin", "HEAD:main")
            while (newest := views.project(site, "sleep").newest) is None or newest.verdict == "undecided":
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

        against("8 cells of 5 s on 4 slots, from the push to the verdict", ours, theirs, samples=samples, limit=1.15)
