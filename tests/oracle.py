"""An oracle of its own for a commit's word: a plain model of histories, and a driver that lives them for real.

It shares no code with the product. A repository has two jobs: `unit` over tests/unit, `slow` over tests/slow, which
only watches its own folder. A test is a file that says its name and how it ends; one in attic/ still says its name,
and is not run. The model says what each commit must be told; the driver asks every place that says it.
"""

from __future__ import annotations

import random
import subprocess
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from conftest import Repository, World

JOBS = ("unit", "slow")
NAMES = {job: [f"{job}_gauge_{i}" for i in range(5)] for job in JOBS}
WATCHES = {"unit": ("tests/unit/", "attic/", "run.sh", "myriant.toml", "src/"), "slow": ("tests/slow/", "attic/", "run.sh", "myriant.toml")}  # fmt: skip
RUN = r"""mkdir -p out; bad=0
{ echo "<testsuite name='$1'>"
for f in tests/$1/*; do [ -f "$f" ] || continue; set -- "$1" $(cat "$f")
case $3 in
 pass) echo "<testcase name='$2'/>";;
 fail) bad=1; echo "<testcase name='$2'><failure message='adrift'/></testcase>";;
 skip) echo "<testcase name='$2'><skipped/></testcase>";;
esac; done; echo "</testsuite>"; } > out/unit.xml
exit $bad
"""
RUN = RUN.replace("exit $bad", "grep -q '<failure' out/unit.xml && exit 1 || exit 0")
EXITS = {"clear": 0, "exempt": 0, "held": 1, "undecided": 3, "none": 4}
WORST = ("held", "undecided", "clear", "exempt")
DEMANDS = ("unit", "slow", "vanished blocks", "steps block")


def plan_of(demands: frozenset[str]) -> str:
    """The plan that asks for these."""
    text = 'version = 1\n[events]\npush = { unless-only = ["docs/**"] }\n'
    levels = [f'{name} = "warn"' for name, demand in (("vanished", DEMANDS[2]), ("failed-steps", DEMANDS[3])) if demand not in demands]  # fmt: skip
    text += "[gate]\n" + "\n".join(levels) + "\n" if levels else ""
    for job in JOBS:
        if job in demands:
            watched = 'touching = ["tests/slow/**", "attic/**", "run.sh", "myriant.toml"]\n' if job == "slow" else ""
            text += (
                f'[jobs.{job}]\nruntime = ["lua"]\nvary = {{ lua = ["5.4"] }}\n{watched}[[jobs.{job}.steps]]\n'
                f'name = "test"\ncommand = "sh run.sh {job}"\ncollect = {{ tests = ["out/unit.xml"] }}\n'
            )
    return text


@dataclass
class Said:
    """What a context was told of a commit, and how each job ended there."""

    verdict: str
    good: frozenset[str] = frozenset()
    ran: frozenset[str] = frozenset()


@dataclass
class Commit:
    id: str
    parent: Commit | None
    files: dict[str, str]
    demands: frozenset[str]
    said: dict[str, Said] = field(default_factory=dict)  # by context

    def tests(self, job: str) -> dict[str, str]:
        found = [text.split() for path, text in self.files.items() if path.startswith(f"tests/{job}/")]
        return {name: state for name, state in found}  # noqa: C416

    def names_somewhere(self) -> set[str]:
        return {text.split()[0] for path, text in self.files.items() if path.startswith(("tests/", "attic/"))}

    def ancestors(self) -> list[Commit]:
        found, at = [], self.parent
        while at is not None:
            found.append(at)
            at = at.parent
        return found


@dataclass
class Model:
    """The rules, as plainly as they can be written."""

    quarantined: set[str] = field(default_factory=set)
    accepted: list[tuple[Commit, frozenset[str]]] = field(default_factory=list)
    gone: set[str] = field(default_factory=set)  # contexts whose branch is deleted

    def baseline(self, commit: Commit, job: str) -> Commit | None:
        for c in commit.ancestors():
            judged = [s for s in c.said.values() if job in s.ran]
            if judged and all(job in s.good for s in judged):
                return c
        return None

    def judge(self, commit: Commit, *, by_hand: bool = False) -> Said:
        """What a context must be told of a commit now."""
        asked = [j for j in JOBS if j in commit.demands]
        good, ran, held = set(), set(), False
        for job in asked:
            base = self.baseline(commit, job)
            changed = None if base is None else {p for p in {*commit.files, *base.files} if commit.files.get(p) != base.files.get(p)}  # fmt: skip
            if (
                not by_hand
                and changed is not None
                and not any(
                    p.startswith(WATCHES[job]) or (job == "unit" and not p.startswith("docs/")) for p in changed
                )
            ):
                continue
            ran.add(job)
            if self.holds(commit, job, base):
                held = True
            else:
                good.add(job)
        if self.less(commit):
            held = True
        if asked and not ran and not held:
            return Said("exempt")
        return Said("held" if held else "clear", frozenset(good), frozenset(ran))

    def holds(self, commit: Commit, job: str, base: Commit | None) -> bool:
        tests = commit.tests(job)
        ran = {n: s for n, s in tests.items() if s != "skip"}
        before = base.tests(job) if base is not None else {}
        vanished = {n for n in before if n not in tests and n in commit.names_somewhere()}
        failing = {n for n, s in ran.items() if s == "fail"}
        if not ran or (vanished and "vanished blocks" in commit.demands):
            return True
        return bool(failing - self.quarantined)

    def less(self, commit: Commit) -> frozenset[str]:
        """What the plan asks less than that of the newest clear ancestor, and nobody accepted."""
        clear = next((c for c in commit.ancestors() if any(s.verdict in ("clear", "exempt") for s in c.said.values())), None)  # fmt: skip
        lost = clear.demands - commit.demands if clear is not None else frozenset()
        for at, what in self.accepted:
            if at is commit or at in commit.ancestors():
                lost -= what
        return frozenset(lost)

    def word(self, commit: Commit) -> str:
        living = {c: s for c, s in commit.said.items() if c not in self.gone} or commit.said
        return min((s.verdict for s in living.values()), key=WORST.index, default="none")


class Driver:
    """Lives a random history in a real repository, and asks every place after each step."""

    def __init__(self, world: World, name: str, seed: int) -> None:
        self.world, self.rng, self.model = world, random.Random(seed), Model()
        self.repo: Repository = world.repository(name, None)
        files = {f"tests/{j}/{n}": f"{n} pass\n" for j in JOBS for n in NAMES[j][:3]}
        demands = frozenset(DEMANDS)
        files |= {"run.sh": RUN, "myriant.toml": plan_of(demands), "docs/a.md": "a\n", "src/lock": "1\n"}
        self.counter = 0
        self.heads: dict[str, Commit] = {}
        self.commits: list[Commit] = []
        self.told = Counter[str]()
        self.log: list[str] = []
        self.commit("main", files, None, demands)
        self.push("main")

    # what happens

    def commit(self, branch: str, files: dict[str, str], parent: Commit | None, demands: frozenset[str]) -> None:
        before = parent.files if parent is not None else {}
        self.repo.git("checkout", "--quiet", *(["-B", branch, parent.id] if parent is not None else ["-B", branch]))
        changes: dict[str, str | None] = {p: None for p in before if p not in files}
        changes |= {p: t for p, t in files.items() if before.get(p) != t}
        self.counter += 1
        made = Commit(self.repo.commit(changes, f"step {self.counter}"), parent, files, demands)
        self.commits.append(made)
        self.heads[branch] = made

    def push(self, branch: str) -> None:
        commit, context = self.heads[branch], f"push {branch}"
        self.repo.git("push", "--quiet", "--force", "origin", f"{commit.id}:refs/heads/{branch}")
        self.model.gone.discard(context)
        self.settle(commit, context)
        commit.said[context] = self.model.judge(commit)

    def settle(self, commit: Commit, context: str, run: int | None = None) -> None:
        end = time.monotonic() + 90
        while time.monotonic() < end:
            if run is not None:
                if not self.world.get(f"/projects/{self.repo.name}/runs/{run}")["open"]:
                    return
            elif any(c["context"] == context and c["final"] for c in self.world.contexts(commit.id, self.repo.name)):
                return
            time.sleep(0.05)
        raise AssertionError(f"{commit.id[:8]} was not decided for {context}: {self.log[-6:]}")

    def changed(self, branch: str, files: dict[str, str], demands: frozenset[str] | None = None) -> None:
        head = self.heads[branch]
        self.commit(branch, files, head, demands or head.demands)
        if self.rng.random() < 0.8:
            self.push(branch)

    def edit(self) -> str:
        """One or two tests change how they end, come, go, or are put aside; or something beside them does."""
        branch = self.rng.choice(list(self.heads))
        files, said = dict(self.heads[branch].files), []
        for _ in range(self.rng.choice((1, 1, 2))):
            job = self.rng.choice(JOBS)
            name = self.rng.choice(NAMES[job])
            what = self.rng.choices(("fail", "pass", "skip", "delete", "hide"), (3, 7, 1, 1, 1))[0]
            path, attic = f"tests/{job}/{name}", f"attic/{name}"
            if what in ("fail", "pass", "skip"):
                files[path] = f"{name} {what}\n"
                files.pop(attic, None)
            elif path in files:
                text = files.pop(path)
                if what == "hide":
                    files[attic] = text
            said.append(f"{what} {name}")
        self.changed(branch, files)
        return f"{branch}: {', '.join(said)}"

    def mend(self) -> str:
        branch = self.rng.choice(list(self.heads))
        files = dict(self.heads[branch].files)
        for path, text in files.items():
            if path.startswith(("tests/", "attic/")):
                files[path] = f"{text.split()[0]} pass\n"
        for attic in [p for p in files if p.startswith("attic/")]:
            name = attic.removeprefix("attic/")
            files[f"tests/{name.split('_')[0]}/{name}"] = files.pop(attic)
        self.changed(branch, files)
        return f"{branch}: mended"

    def words_only(self) -> str:
        branch = self.rng.choice(list(self.heads))
        path = self.rng.choice(("docs/a.md", "docs/a.md", "src/lock"))
        self.changed(branch, {**self.heads[branch].files, path: f"{self.counter}\n"})
        return f"{branch}: only {path}"

    def branch_off(self) -> str:
        name = f"topic-{self.counter}"
        self.heads[name] = self.rng.choice(list(self.heads.values()))
        self.counter += 1
        self.push(name)
        return f"{name} at {self.heads[name].id[:8]}"

    def fast_forward(self) -> str:
        name = self.rng.choice(list(self.heads))
        target = self.heads[name]
        if name == "main" or self.heads["main"] not in target.ancestors():
            return "no fast-forward"
        self.heads["main"] = target
        self.push("main")
        return f"main to {name}"

    def delete_branch(self) -> str:
        name = self.rng.choice(list(self.heads))
        if name == "main" or f"push {name}" not in {c for k in self.commits for c in k.said}:
            return "nothing deleted"
        self.heads.pop(name)
        self.repo.git("push", "--quiet", "origin", f":refs/heads/{name}")
        self.model.gone.add(f"push {name}")
        return f"{name} deleted"

    def again(self) -> str:
        judged = [(c, x) for c in self.commits for x, s in c.said.items() if s.ran]
        commit, context = self.rng.choice(judged)
        run = next(c["run"] for c in self.world.contexts(commit.id, self.repo.name) if c["context"] == context)
        answer = self.world.http.post(
            f"/projects/{self.repo.name}/runs/{run}/again", json={"which": "all", "cells": ""}
        )
        assert answer.status_code < 300, answer.text
        self.settle(commit, context, run)
        # the baseline and the jobs are those it had; only what is set aside may be another
        was = commit.said[context]
        new = self.model.judge(commit, by_hand=True)
        commit.said[context] = Said(new.verdict if was.ran == new.ran else self.rejudged(commit, was), new.good & was.ran, was.ran)  # fmt: skip
        return f"#{run} again"

    def rejudged(self, commit: Commit, was: Said) -> str:
        bad = any(self.model.holds(commit, j, self.model.baseline(commit, j)) for j in was.ran)
        return "held" if bad or self.model.less(commit) else "clear"

    def evidence(self) -> str:
        """A partial run by hand, or results from elsewhere: they say nothing."""
        branch = self.rng.choice(list(self.heads))
        commit = self.heads[branch]
        if not commit.said:
            return "nothing by hand"
        asked = [j for j in JOBS if j in commit.demands]
        if len(asked) < 2:
            return "nothing partial"
        answer = self.world.http.post(f"/projects/{self.repo.name}/runs", json={"ref": commit.id, "jobs": asked[:1], "cells": ""})  # fmt: skip
        assert answer.status_code < 300, answer.text
        self.settle(commit, "", int(answer.json()["runs"][-1]))
        return f"part of {branch} by hand"

    def by_hand(self) -> str:
        branch = self.rng.choice(list(self.heads))
        commit, context = self.heads[branch], f"push {branch}"
        if context not in commit.said:
            return "nothing by hand"
        answer = self.world.http.post(f"/projects/{self.repo.name}/runs", json={"ref": branch, "jobs": [], "cells": ""})
        assert answer.status_code < 300, answer.text
        self.settle(commit, context, int(answer.json()["runs"][-1]))
        commit.said[context] = self.model.judge(commit, by_hand=True)
        return f"all of {branch} by hand"

    def tag(self) -> str:
        commit = self.rng.choice(self.commits)
        if not commit.said:
            return "no tag"
        self.counter += 1
        self.repo.git("push", "--quiet", "origin", f"{commit.id}:refs/tags/v{self.counter}")
        return f"tag on {commit.id[:8]}"

    def change_plan(self) -> str:
        branch = self.rng.choice(list(self.heads))
        demand = self.rng.choice(DEMANDS[1:])
        demands = self.heads[branch].demands ^ {demand}
        files = {**self.heads[branch].files, "myriant.toml": plan_of(demands)}
        self.changed(branch, files, demands)
        return f"{branch}: the plan {'asks' if demand in demands else 'no longer asks'} {demand}"

    def accept(self) -> str:
        for branch, commit in self.heads.items():
            less = self.model.less(commit)
            context = f"push {branch}"
            if less and context in commit.said:
                run = next(c["run"] for c in self.world.contexts(commit.id, self.repo.name) if c["context"] == context)
                view = self.world.get(f"/projects/{self.repo.name}/runs/{run}")
                lines = view["acceptable"]["loosened"]
                assert lines, (view["run"]["sentence"], less)
                answer = self.world.http.post(
                    f"/projects/{self.repo.name}/runs/{run}/acceptances", json={"reason": "for now", "loosened": lines}
                )
                assert answer.status_code == 201, answer.text
                self.model.accepted.append((commit, less))
                was = commit.said[context]
                verdict = self.rejudged(commit, was)
                commit.said[context] = Said(verdict, was.good, was.ran)
                self.wait_for(commit, context, verdict)
                return f"{branch}: accepted {sorted(less)}"
        return "nothing to accept"

    def wait_for(self, commit: Commit, context: str, verdict: str) -> None:
        end = time.monotonic() + 10
        while time.monotonic() < end:
            said = self.world.contexts(commit.id, self.repo.name)
            if any(c["context"] == context and c["verdict"] == verdict for c in said):
                return
            time.sleep(0.05)

    def set_aside(self) -> str:
        """Quarantine a test that fails somewhere: it holds nothing that is judged from now on."""
        for job in JOBS:
            for name, state in self.heads["main"].tests(job).items():
                if state == "fail" and name not in self.model.quarantined and self.heads["main"].said:
                    run = self.world.word(self.heads["main"].id, self.repo.name)
                    assert run is not None
                    rows = self.world.get(f"/projects/{self.repo.name}/runs/{run['run']}/tests", state="all", limit=100)
                    numbers = [t["test"] for t in rows["rows"] if t["name"] == name]
                    if numbers:
                        until = (datetime.now(UTC) + timedelta(days=9)).isoformat()
                        wish = {"tests": numbers, "reason": "drifts", "owner": "Ada", "until": until}
                        answer = self.world.http.post(f"/projects/{self.repo.name}/quarantines", json=wish)
                        assert answer.status_code == 201, answer.text
                        self.model.quarantined.add(name)
                        return f"{name} set aside"
        return "nothing to set aside"

    # what is said

    def step(self) -> None:
        actions: list[Callable[[], str]] = [
            *[self.edit] * 6, *[self.mend] * 3, *[self.words_only] * 3, self.branch_off, self.fast_forward, self.fast_forward,
            self.delete_branch, self.again, self.evidence, self.by_hand, self.tag, self.change_plan, self.accept, self.accept,
            self.set_aside,
        ]  # fmt: skip
        self.log.append(self.rng.choice(actions)())
        touched = {c.id: c for c in [*self.heads.values(), *self.rng.sample(self.commits, min(2, len(self.commits)))]}
        for commit in touched.values():
            self.compare(commit)

    def compare(self, commit: Commit) -> None:
        must = self.model.word(commit)
        end = time.monotonic() + 40  # a note follows a moment later
        while (odd := self.disagreements(commit, must)) and time.monotonic() < end:
            time.sleep(0.1)
        self.told[must] += 1
        if odd:
            stands = [
                (c["context"], c["verdict"], c["sentence"]) for c in self.world.contexts(commit.id, self.repo.name)
            ]
            model = {x: (s.verdict, sorted(s.ran), sorted(s.good)) for x, s in commit.said.items()}
            raise AssertionError(
                f"{commit.id[:8]} must be {must}, and {odd}\ncontexts: {stands}\nmodel: {model}\nsteps: "
                + "\n  ".join(["", *self.log])
            )

    def disagreements(self, commit: Commit, must: str) -> dict[str, Any]:
        """Places that say something else."""
        name, said = self.repo.name, {}
        word = self.world.word(commit.id, name)
        said["API"] = word["verdict"] if word else "none"
        for context, of in commit.said.items():
            asked = self.world.word(commit.id, name, context)
            said[f"API for {context}"] = (of.verdict if asked is None else asked["verdict"], of.verdict)
        note = subprocess.run(
            ["git", "-C", str(self.repo.origin), "notes", "--ref=myriant", "show", commit.id], capture_output=True, text=True
        ).stdout  # fmt: skip
        if must != "none":
            said["note"] = note.split("\n", 1)[0].removeprefix("verdict: ").split(" (")[0]
        for branch, head in self.heads.items():
            if head is commit and f"push {branch}" in commit.said:
                columns = self.world.get(f"/projects/{name}/strip", branch=branch)["columns"]
                found = [c["run"]["word"] for c in columns if c["run"]["commit"] == commit.id]
                said[f"strip of {branch}"] = found[-1] if found else "none"
        if commit is self.heads["main"] and "push main" in commit.said:
            lines = {p["name"]: p for p in self.world.get("/projects")}
            said["list"] = lines[name]["newest"]["word"]
            desk = {p["project"]["name"]: p for p in self.world.get("/desk")["projects"]}
            said["desk"] = desk[name]["project"]["newest"]["word"]
            said["desk strip"] = desk[name]["runs"][-1]["word"]
        if self.rng.random() < 0.25:
            said["exit status"] = (self.world.command("verdict", commit.id, "--project", name).returncode, EXITS[must])
        return {k: v for k, v in said.items() if (v[0] != v[1] if isinstance(v, tuple) else v != must)}


def live(world: World, name: str, seed: int, steps: int) -> Driver:
    """A history of so many steps; raises AssertionError at the first place that says something else."""
    driver = Driver(world, name, seed)
    for _ in range(steps):
        driver.step()
    return driver
