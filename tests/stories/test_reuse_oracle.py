"""Reuse beside an oracle: a random walk over what jobs can see, and over what they cannot.

`MYRIANT_REUSE_STEPS` asks for more steps than the few of each day, `MYRIANT_SEED` for another walk.
"""

from __future__ import annotations

import os
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

from inprocess import Stories, StoryRepository
from worlds import junit, writes

STEPS, SEED = int(os.environ.get("MYRIANT_REUSE_STEPS", "24")), int(os.environ.get("MYRIANT_SEED", "7"))
HEAD = """version = 1

[events]
push = {}

[jobs.build]
hand-over = { made = "made.txt" }
secrets   = ["TOKEN"]
[[jobs.build.steps]]
name    = "build"
command = "cat MADE > made.txt"
"""
JOB = """
[jobs.{job}]
{more}
[[jobs.{job}.steps]]
name    = "test"
command = "{first}sh test.sh"
collect = {{ tests = ["out/unit.xml"] }}
"""
PLAN = HEAD + "".join(
    JOB.format(job=job, more=more, first="cat $MYRIANT_FROM/build/made.txt && " if job == "given" else "")
    for job, more in {
        "plain": "",
        "branch": 'told = ["branch"]',
        "commit": 'told = ["commit"]',
        "given": 'after = ["build"]',
    }.items()
)


class Walk:
    """A repository, the branch it is pushed to, and what the build makes; every step changes some of it."""

    def __init__(self, repo: StoryRepository, made: Path, rng: random.Random) -> None:
        self.repo, self.made, self.rng = repo, made, rng
        self.branch, self.n, self.heads = "main", 0, {"main": ""}
        self.said: list[str] = []

    @property
    def file(self) -> str:
        return self.rng.choice(["a.txt", "b.txt", "deep/c.txt"])

    def writes(self) -> None:
        """One of few contents, so that an earlier tree comes again."""
        path = self.repo.tree / self.file
        path.unlink(missing_ok=True)
        path.parent.mkdir(exist_ok=True)
        path.write_text(self.rng.choice(["low", "high"]))

    def removes(self) -> None:
        (self.repo.tree / self.file).unlink(missing_ok=True)

    def marks(self) -> None:
        path = self.repo.tree / self.file
        if path.is_file() and not path.is_symlink():
            path.chmod(self.rng.choice([0o644, 0o755]))

    def links(self) -> None:
        path = self.repo.tree / self.file
        path.unlink(missing_ok=True)
        path.parent.mkdir(exist_ok=True)
        path.symlink_to("test.sh")

    def commands(self) -> None:
        plan = PLAN.replace("MADE", str(self.made))
        (self.repo.tree / "myriant.toml").write_text(plan + self.rng.choice(["", "# high water\n"]))

    def makes(self) -> None:
        self.made.write_text(self.rng.choice(["one", "two"]))

    def fails(self) -> None:
        bad = self.rng.random() < 0.5
        report = junit(a="passed", b="expected 1, got 2" if bad else "passed")
        (self.repo.tree / "test.sh").write_text(writes(report, status=int(bad)))

    def moves(self) -> None:
        self.branch = self.rng.choice(["main", "season"])

    def says(self) -> None:
        """Nothing but a message, an author and a time."""

    def tags(self) -> None:
        self.repo.git("tag", f"t{self.n}")
        self.repo.git("push", "--quiet", "origin", f"t{self.n}")

    def step(self) -> str | None:
        """Some changes, a commit or none, a push; the commit where a branch moved."""
        self.n += 1
        seen: list[Callable[[], None]] = [
            self.writes, self.removes, self.marks, self.links, self.commands, self.makes, self.fails, self.moves,
        ]  # fmt: skip
        unseen: list[Callable[[], None]] = [self.says, self.tags, self.moves]
        wanted = [*self.rng.sample(seen, self.rng.choice([1, 1, 2])), *self.rng.sample(unseen, 1)]
        if self.rng.random() < 0.5:
            wanted = self.rng.sample(unseen, self.rng.choice([1, 2]))
        for change in wanted:
            change()
        self.said = [c.__name__ for c in wanted]
        if wanted != [self.moves]:  # the same commit may be pushed to another branch
            who = self.rng.choice(["Ada Fen <ada@example.org>", "Bo Quay <bo@example.org>"])
            self.repo.git("add", "--all")
            self.repo.git("commit", "--quiet", "--allow-empty", f"--author={who}", "-m", f"step {self.n}")
        commit = self.repo.git("rev-parse", "HEAD").strip()
        if self.heads.get(self.branch) == commit:
            return None
        self.repo.push(self.branch, "--force")
        self.heads[self.branch] = commit
        return commit

    def seen_by(self, job: str, commit: str) -> tuple[str, ...]:
        """All that a job can see."""
        tree = self.repo.git("ls-tree", "-r", commit)
        more = {"branch": self.branch, "commit": commit, "given": self.made.read_text()}
        return (job, tree, more.get(job, ""))


def newest(world: Stories, name: str, branch: str) -> dict[str, Any]:
    runs = world.get(f"/projects/{name}/runs", limit=20)["runs"]
    number = max(r["number"] for r in runs if r["context"] == f"push {branch}")
    view: dict[str, Any] = world.get(f"/projects/{name}/runs/{number}")
    return view


def test_what_a_job_can_see_decides_whether_it_runs(world: Stories) -> None:
    made = world.folder / "reuse.made"
    made.write_text("one")
    repo = world.repository("reuse-oracle", None)
    put = world.http.put(f"/projects/{repo.name}/secrets/TOKEN", json={"value": "a secret of the build"})
    assert put.status_code == 204, put.text
    walk = Walk(repo, made, random.Random(SEED))
    for first in (walk.writes, walk.commands, walk.fails):
        first()
    repo.commit({}, "before all")
    known, counts = set[tuple[str, ...]](), {True: 0, False: 0}
    for _ in range(STEPS):
        commit = walk.step()
        if commit is None:
            continue
        world.settle()
        view = newest(world, repo.name, walk.branch)
        assert view["run"]["commit"] == commit
        for cell in view["cells"]:
            if cell["job"] == "build":
                assert cell["reused"] is None, "it has a secret"
                continue
            content = walk.seen_by(cell["job"], commit)
            assert (cell["reused"] is not None) == (content in known), (walk.n, walk.said, cell["job"], cell["reason"])
            assert cell["state"] in ("passed", "failed"), (walk.n, cell["state"], cell["reason"])
            counts[content in known] += 1
            known.add(content)
    print(f"{counts[False]} differ, none reused; {counts[True]} are the same, all reused; seed {SEED}")
    assert min(counts.values()) >= STEPS // 2, counts
