"""An oracle of its own for a commit's word: a plain model of histories, and a driver that lives them for real.

It shares no code with the product. A repository has two jobs: `unit` over tests/unit, `slow` over tests/slow, which
only watches its own folder. A test is a file that says its name and how it ends: a flaky one fails and passes, a shy
one fails at the first attempt and is not listed by a later one; one in attic/ still says its name, and is not run. With
src/harness the step of `unit` ends badly though no test says why, with src/garbled its report cannot be read. The model says what each commit must be told; the driver asks every place that says it.
"""

from __future__ import annotations

import io
import itertools
import os
import random
import signal
import subprocess
import threading
import time
from collections import Counter
from collections.abc import Callable, Collection
from contextlib import redirect_stderr, redirect_stdout
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import Any
from unittest import mock

from sqlalchemy import text as sql
from typer.main import get_command

from myriant.cli.main import app
from worlds import Repository, World

COMMAND = get_command(app)
JOBS = ("unit", "slow")
NAMES = {job: [f"{job}_gauge_{i}" for i in range(5)] for job in JOBS}
WATCHES = {
    "unit": ("tests/unit/", "attic/", "run.sh", "myriant.toml", "src/"),
    "slow": ("tests/slow/", "attic/", "run.sh", "myriant.toml"),
}
RUN = r"""mkdir -p out
{ echo "<testsuite name='$1'>"
for f in tests/$1/*; do [ -f "$f" ] || continue; set -- "$1" $(cat "$f"); case $3$MYRIANT_ATTEMPT in shy1) set -- $1 $2 fail;; esac
case $3 in
 pass) echo "<testcase name='$2'/>";;
 fail) echo "<testcase name='$2'><failure message='adrift'/></testcase>";;
 skip) echo "<testcase name='$2'><skipped/></testcase>";;
 flaky) echo "<testcase name='$2'><flakyFailure message='adrift'/></testcase> ";;
esac; done; echo "</testsuite>"; } > out/unit.xml
[ $1 = unit ] && [ -f src/garbled ] && echo '<' >> out/unit.xml
[ $1 = unit ] && [ -f src/harness ] && exit 3
grep -q "failure message='adrift'/></testcase>$" out/unit.xml && exit 1 || exit 0
"""
EXITS = {"clear": 0, "exempt": 0, "held": 1, "undecided": 3, "none": 4}
WORST = ("held", "undecided", "clear", "exempt")
NIGHTLY = "schedule nightly"
DEMANDS = ("unit", "slow", "vanished blocks", "steps block")


def plan_of(demands: frozenset[str]) -> str:
    """The plan that asks for these."""
    text = 'version = 1\n[events]\npush = { unless-only = ["docs/**"] }\npull-request = { unless-only = ["docs/**"] }\n'
    text += '[[events.schedule]]\nname = "nightly"\nevery = "day"\nat = "02:20"\nzone = "Europe/Oslo"\n'
    levels = [
        f'{name} = "warn"'
        for name, demand in (("vanished", DEMANDS[2]), ("failed-steps", DEMANDS[3]))
        if demand not in demands
    ]
    text += "[gate]\n" + "\n".join(levels) + "\n" if levels else ""
    for job in JOBS:
        if job in demands:
            watched = 'touching = ["tests/slow/**", "attic/**", "run.sh", "myriant.toml"]\n' if job == "slow" else ""
            text += (
                f'[jobs.{job}]\nruntime = ["lua"]\nvary = {{ lua = ["5.4"] }}\n{watched}[[jobs.{job}.steps]]\n'
                f'name = "test"\ncommand = "sh run.sh {job}"\ncollect = {{ tests = ["out/unit.xml"] }}\n'
            )
    return text


EVERY_DEMAND = [
    frozenset({DEMANDS[0], *more}) for n in range(len(DEMANDS)) for more in itertools.combinations(DEMANDS[1:], n)
]


@dataclass
class Said:
    """What a context was told of a commit, and how each job ended there."""

    verdict: str
    good: frozenset[str] = frozenset()
    ran: frozenset[str] = frozenset()
    untrusted: frozenset[str] = frozenset()
    lost: frozenset[str] = frozenset()  # tests that vanished, and lasted until they came back

    def lost_in(self, jobs: Collection[str]) -> frozenset[str]:
        return frozenset(n for n in self.lost if n.partition("_")[0] in jobs)

    def void(self, job: str) -> bool:
        return job in self.untrusted


@dataclass
class Pull:
    number: int
    branch: str


@dataclass
class Commit:
    id: str
    parent: Commit | None
    files: dict[str, str]
    demands: frozenset[str]
    said: dict[str, Said] = field(default_factory=dict)  # by context
    other: Commit | None = None  # what a merge brought, no first parent of its

    def tests(self, job: str) -> dict[str, str]:
        found = [text.split() for path, text in self.files.items() if path.startswith(f"tests/{job}/")]
        return {name: state for name, state in found}  # noqa: C416

    def names_somewhere(self) -> set[str]:
        return {text.split()[0] for path, text in self.files.items() if path.startswith(("tests/", "attic/"))}

    def leads_to(self, other: Commit) -> bool:
        """Whether the other is this one or comes after it, by any parent."""
        every = [other, *other.ancestors()]
        return self in every or any(self.leads_to(c.other) for c in every if c.other is not None)

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
    accepted: list[tuple[Commit, frozenset[str], frozenset[str]]] = field(
        default_factory=list
    )  # at, what, of what was asked
    gone: set[str] = field(default_factory=set)  # contexts whose branch is deleted
    # the contents with which the harness was seen to end badly: beside failures that held, and without any
    beside: set[frozenset[tuple[str, str]]] = field(default_factory=set)
    alone: set[frozenset[tuple[str, str]]] = field(default_factory=set)

    def baseline(self, commit: Commit, job: str, context: str = "") -> Commit | None:
        """The nearest ancestor that a branch's pushes say is good; a schedule looks at its own runs first."""
        for c in commit.ancestors():
            own = [s for x, s in c.said.items() if x == context == NIGHTLY and job in s.ran]
            judged = own or [s for x, s in c.said.items() if x.startswith("push ") and job in s.ran]
            if judged and all(job in s.good for s in judged):
                return c
        return None

    def judge(self, commit: Commit, *, by_hand: bool = False, context: str = "") -> Said:
        """What a context must be told of a commit now."""
        asked = [j for j in JOBS if j in commit.demands]
        good, ran, lost, held = set[str](), set[str](), set[str](), False
        for job in asked:
            base = self.baseline(commit, job, context)
            changed = (
                None
                if base is None
                else {p for p in {*commit.files, *base.files} if commit.files.get(p) != base.files.get(p)}
            )
            if not by_hand and context != NIGHTLY and changed is not None and not self.watched(job, changed):
                continue
            ran.add(job)
            lost |= self.vanished(commit, job, base)
            if self.holds(commit, job, base):
                held = True
            else:
                good.add(job)
        if self.less(commit):
            held = True
        if asked and not ran and not held:
            return Said("exempt")
        void = {j for j in ran if self.unread(commit, j) or all(s == "skip" for s in commit.tests(j).values())}
        return Said("held" if held else "clear", frozenset(good), frozenset(ran), frozenset(void), frozenset(lost))

    def vanished(self, commit: Commit, job: str, base: Commit | None, *, lasting: bool = True) -> set[str]:
        """Tests of the baseline that are no more though their name stands somewhere; `lasting`: and those that an
        earlier run missed, as long as they did not come back."""
        if self.unread(commit, job):
            return set()
        gone, back = set(base.tests(job)) if base is not None else set(), set[str]()
        for c in commit.ancestors() if lasting else ():
            said = [s for x, s in c.said.items() if not x.startswith("pull-request ")]
            gone |= {n for s in said for n in s.lost if n.startswith(job) and n not in back}
            back |= {n for s in said if job in s.ran and not self.unread(c, job) for n in c.tests(job)}
        return {n for n in gone if n not in commit.tests(job) and n in commit.names_somewhere()}

    def holds(self, commit: Commit, job: str, base: Commit | None, known: set[str] | None = None) -> bool:
        ran = {n: s for n, s in commit.tests(job).items() if s != "skip"}
        vanished = self.vanished(commit, job, base, lasting=known is None)
        failing = {n for n, s in ran.items() if s in ("fail", "shy")}
        if self.unread(commit, job):
            return True
        new = failing - self.quarantined - (known or set())
        if job == "unit" and "src/harness" in commit.files:
            content = frozenset(commit.files.items())
            explained = new or (failing and self.beside - {content} and not self.alone - {content})
            if new:
                self.beside.add(content)
            elif not failing:
                self.alone.add(content)
            if not explained and "steps block" in commit.demands:
                return True
        if failing and not new and "steps block" in commit.demands and self.vanished(commit, job, base, lasting=False):
            return True  # it may have stopped at what is set aside
        if not ran or (vanished and "vanished blocks" in commit.demands):
            return True
        return bool(new)

    @staticmethod
    def unread(commit: Commit, job: str) -> bool:
        return job == "unit" and "src/garbled" in commit.files

    def less(self, commit: Commit) -> frozenset[str]:
        """What the plan asks less than that of the newest clear ancestor, and nobody accepted."""
        before = self.clear_before(commit)
        return self.unaccepted(commit, before) if before is not None else frozenset()

    @staticmethod
    def clear_before(commit: Commit) -> Commit | None:
        """The nearest ancestor that every branch's push said was clear."""
        for c in commit.ancestors():
            told = [s.verdict for x, s in c.said.items() if x.startswith("push ") and s.verdict != "undecided"]
            if told and all(v in ("clear", "exempt") for v in told):
                return c
        return None

    def unaccepted(self, commit: Commit, before: Commit, own: frozenset[str] | None = None) -> frozenset[str]:
        """What a commit (its `own` plan where it is merged) asks less than one before, and nobody accepted: at it, at
        an ancestor by any parent, or of the very same change; nor what was accepted before it was asked again."""
        lost = before.demands - (commit.demands if own is None else own)
        for at, what, then in self.accepted:
            same = (then, at.demands) == (before.demands, commit.demands)
            if (same or at.leads_to(commit)) and not at.leads_to(before):
                lost -= what
        return frozenset(lost)

    def judge_pull(self, pull: Pull, target: Commit, head: Commit, merged: dict[str, str] | None) -> Said:
        """A pull request runs on the merge; known is what fails at the target's head, excused what was good before."""
        if merged is None:
            return Said("held")  # a conflict
        own = next(d for d in EVERY_DEMAND if plan_of(d) == merged["myriant.toml"])
        asked = target.demands | own
        merge = Commit("", target, merged, asked)
        ran, held = set(), bool(self.unaccepted(head, target, own))
        for job in JOBS:
            if job not in asked:
                continue
            base = next(
                (
                    c
                    for c in (target, *target.ancestors())
                    if any(job in s.ran for x, s in c.said.items() if x.startswith("push ") and not s.void(job))
                ),
                None,
            )
            good = self.baseline(merge, job)
            changed = (
                None if good is None else {p for p in {*merged, *good.files} if merged.get(p) != good.files.get(p)}
            )
            if changed is not None and not self.watched(job, changed):
                continue
            ran.add(job)
            known = {n for n, s in base.tests(job).items() if s in ("fail", "shy")} if base is not None else set()
            held = held or self.holds(merge, job, base, known)
        return Said("held" if held else "clear" if ran else "exempt", frozenset(), frozenset(ran))

    @staticmethod
    def watched(job: str, changed: set[str]) -> bool:
        return any(p.startswith(WATCHES[job]) or (job == "unit" and not p.startswith("docs/")) for p in changed)

    def word(self, commit: Commit) -> str:
        living = {c: s for c, s in commit.said.items() if c not in self.gone} or commit.said
        return min((s.verdict for s in living.values()), key=WORST.index, default="none")


class Disagreement(AssertionError):
    """A place says something else than the model; `kind` is false clear, false held, or that places differ."""

    def __init__(self, kind: str, said: str) -> None:
        super().__init__(said)
        self.kind = kind


def steady(files: dict[str, str]) -> dict[str, str]:
    """Files for an attempt that may be cut short: the next one is no first any more, and may be the only one seen."""
    files = {path: text for path, text in files.items() if path not in ("src/harness", "src/garbled")}
    return {path: text.replace(" shy", " pass") if path.startswith("tests/") else text for path, text in files.items()}


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
        self.looks = 0  # how often every place was asked: once after each change
        self.log: list[str] = []
        self.there: dict[str, Commit] = {}  # where the server's branches are
        self.pulls: list[Pull] = []
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
        self.there[branch] = commit
        self.settle(commit, context)
        commit.said[context] = self.model.judge(commit)
        for pull in self.pulls:
            if pull.branch == branch:
                self.pulled(pull)

    def pulled(self, pull: Pull) -> None:
        """What a pull request must be told of its head now."""
        head, target, context = self.there[pull.branch], self.there["main"], f"pull-request {pull.number}"
        self.settle(head, context)
        head.said[context] = self.model.judge_pull(pull, target, head, self.merged(target, head))

    def merged(self, target: Commit, head: Commit) -> dict[str, str] | None:
        fork = next(c for c in (head, *head.ancestors()) if c in (target, *target.ancestors()))
        found = {}
        for path in {*target.files, *head.files, *fork.files}:
            ours, theirs, before = (c.files.get(path) for c in (target, head, fork))
            if ours != theirs and before not in (ours, theirs):
                return None
            if (kept := theirs if ours == before else ours) is not None:
                found[path] = kept
        return found

    def settle(self, commit: Commit, context: str, run: int | None = None) -> None:
        end = time.monotonic() + 90
        while time.monotonic() < end:
            if run is not None:
                if not self.world.get(f"/projects/{self.repo.name}/runs/{run}")["open"]:
                    return
            elif any(c["context"] == context and c["final"] for c in self.world.contexts(commit.id, self.repo.name)):
                return
            time.sleep(0.2)  # asking costs the server more than testing
        stands = [
            (c["context"], c["run"], c["verdict"], c["final"], c["sentence"])
            for c in self.world.contexts(commit.id, self.repo.name)
        ]
        rows = [self.world.get(f"/projects/{self.repo.name}/runs/{c[1]}") for c in stands]
        cells = [(c["job"], c["state"], c["reason"]) for r in rows for c in r["cells"]]
        raise Disagreement(
            "disagreement", f"{commit.id[:8]} was not decided for {context}: {self.log[-6:]} {stands} {cells}"
        )

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
            what = self.rng.choices(("fail", "pass", "skip", "delete", "hide", "flaky", "shy"), (6, 14, 2, 2, 2, 1, 1))[
                0
            ]
            path, attic = f"tests/{job}/{name}", f"attic/{name}"
            if what in ("fail", "pass", "skip", "flaky", "shy"):
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
        files.pop("src/harness", None)
        files.pop("src/garbled", None)
        for attic in [p for p in files if p.startswith("attic/")]:
            name = attic.removeprefix("attic/")
            files[f"tests/{name.split('_')[0]}/{name}"] = files.pop(attic)
        self.changed(branch, files)
        return f"{branch}: mended"

    def words_only(self) -> str:
        branch = self.rng.choice(list(self.heads))
        path = self.rng.choice(("docs/a.md", "docs/a.md", "src/lock", "src/harness"))
        files = {**self.heads[branch].files, path: f"{self.counter}\n"}
        if path == "src/harness" and path in self.heads[branch].files:
            files.pop(path)  # the harness of `unit` ends well again
        self.changed(branch, files)
        return f"{branch}: only {path}"

    def branch_off(self) -> str:
        name = self.topic(self.rng.choice(list(self.heads.values())))
        return f"{name} at {self.heads[name].id[:8]}"

    def topic(self, at: Commit) -> str:
        self.counter += 1
        name = f"topic-{self.counter}"
        self.heads[name] = at
        self.push(name)
        return name

    def fast_forward(self) -> str:
        name = self.rng.choice(list(self.heads))
        target = self.heads[name]
        if name == "main" or self.heads["main"] not in target.ancestors():
            return "no fast-forward"
        self.heads["main"] = target
        self.push("main")
        return f"main to {name}"

    def merge(self) -> str:
        """A topic comes to main by a merge commit: its own commits are no first-parent ancestors."""
        name = self.rng.choice(list(self.heads))
        main, topic = self.heads["main"], self.heads[name]
        if name == "main" or topic in (main, *main.ancestors()):
            return "nothing merged"
        tree = self.repo.git("rev-parse", f"{topic.id}^{{tree}}").strip()
        made = self.repo.git("commit-tree", tree, "-p", main.id, "-p", topic.id, "-m", f"Merge {name}").strip()
        self.heads["main"] = Commit(made, main, topic.files, topic.demands, other=topic)
        self.commits.append(self.heads["main"])
        self.push("main")
        return f"main takes {name} as it is"

    def revert(self) -> str:
        branch = self.rng.choice(list(self.heads))
        head = self.heads[branch]
        if head.parent is None:
            return "nothing reverted"
        self.changed(branch, head.parent.files, head.parent.demands)
        return f"{branch}: reverted"

    def rename(self) -> str:
        """A test's file and name change, as it passes or fails."""
        branch = self.rng.choice(list(self.heads))
        files, job = dict(self.heads[branch].files), self.rng.choice(JOBS)
        paths = [p for p in files if p.startswith(f"tests/{job}/")]
        if not paths:
            return "nothing renamed"
        old = self.rng.choice(sorted(paths))
        self.counter += 1
        name, state = f"{job}_renamed_{self.counter}", files.pop(old).split()[1]
        files[f"tests/{job}/{name}"] = f"{name} {state}\n"
        self.changed(branch, files)
        return f"{branch}: {old} is {name}, {state}"

    def two_at_once(self) -> str:
        """Two pushes, the second before the first is judged: the first may stay undecided, and counts for nothing then."""
        branch = self.rng.choice(list(self.heads))
        files = steady(self.heads[branch].files)
        name = self.rng.choice(NAMES["unit"])
        files[f"tests/unit/{name}"] = f"{name} fail\n"
        files.pop(f"attic/{name}", None)
        self.commit(branch, files, self.heads[branch], self.heads[branch].demands)
        first, context = self.heads[branch], f"push {branch}"
        self.repo.git("push", "--quiet", "--force", "origin", f"{first.id}:refs/heads/{branch}")
        self.there[branch] = first
        self.commit(branch, {**files, "docs/a.md": f"{self.counter}\n"}, first, first.demands)
        second = self.heads[branch]
        self.repo.git("push", "--quiet", "--force", "origin", f"{second.id}:refs/heads/{branch}")
        self.there[branch] = second
        self.settle(second, context)
        self.settle(first, context)
        raced = self.model.judge(second)  # it may have been planned before the first was judged
        self.seen(first, context)
        told = next(c["verdict"] for c in self.world.contexts(second.id, self.repo.name) if c["context"] == context)
        second.said[context] = raced if raced.verdict == told else self.model.judge(second)
        for pull in self.pulls:
            if pull.branch == branch:
                self.pulled(pull)
                first.said.update(
                    {
                        c["context"]: Said(c["verdict"])
                        for c in self.world.contexts(first.id, self.repo.name)
                        if c["context"].startswith("pull") and c["verdict"] != "none"
                    }
                )
        return f"{branch}: fail {name}, and words on top at once"

    def seen(self, commit: Commit, context: str) -> None:
        """What came of a race: taken as it is, so long as it is no pass."""
        must = self.model.judge(commit)
        said = next(c for c in self.world.contexts(commit.id, self.repo.name) if c["context"] == context)
        assert said["verdict"] in ("undecided", must.verdict), (said, must)
        ended = must.ran if said["verdict"] == must.verdict else frozenset()
        commit.said[context] = Said(said["verdict"], must.good & ended, ended, must.untrusted, must.lost_in(ended))

    def stop(self) -> str:
        """A push, stopped by a person at once: never a pass unless all of it had ended."""
        branch = self.rng.choice(list(self.heads))
        name = self.rng.choice(NAMES["unit"])
        head = self.heads[branch]
        files = {**steady(head.files), f"tests/unit/{name}": f"{name} pass\n", "src/lock": f"{self.counter}\n"}
        files.pop(f"attic/{name}", None)
        self.commit(branch, files, head, head.demands)
        commit, context = self.heads[branch], f"push {branch}"
        self.repo.git("push", "--quiet", "--force", "origin", f"{commit.id}:refs/heads/{branch}")
        self.there[branch] = commit
        run = next(c["run"] for c in self.world.contexts(commit.id, self.repo.name) if c["context"] == context)
        self.world.http.post(f"/projects/{self.repo.name}/runs/{run}/stop")
        self.settle(commit, context)
        must = self.model.judge(commit)
        cells = self.world.get(f"/projects/{self.repo.name}/runs/{run}")["cells"]
        whole = all(c["state"] in ("passed", "failed") for c in cells) and cells
        said = next(c for c in self.world.contexts(commit.id, self.repo.name) if c["context"] == context)
        assert said["verdict"] == must.verdict or (not whole and said["verdict"] in ("held", "undecided")), (
            said,
            must,
            cells,
        )
        ended = frozenset(c["job"] for c in cells if c["state"] in ("passed", "failed")) & must.ran
        # a job that was stopped has no result that could be trusted: it is no baseline
        commit.said[context] = Said(said["verdict"], must.good & ended, must.ran, must.ran - ended, must.lost_in(ended))
        for pull in self.pulls:
            if pull.branch == branch:
                self.pulled(pull)
        return f"{branch}: pass {name}, stopped at once ({said['verdict']})"

    def back(self) -> str:
        """A branch is set back to a commit that was there before."""
        branch = self.rng.choice(list(self.heads))
        head = self.heads[branch]
        if branch == "main" or head.parent is None or not head.parent.said or self.there.get(branch) is not head:
            return "nothing set back"
        self.heads[branch] = head.parent
        self.push(branch)
        return f"{branch} back to {head.parent.id[:8]}"

    def end_quarantine(self) -> str:
        for row in self.world.get(f"/projects/{self.repo.name}/flaky")["tests"]:
            name = next((n for n in self.model.quarantined if row["title"].endswith(n)), None)
            if row["quarantine"] and name is not None:
                self.hold_again(name)
                return f"{name} holds again"
        return "nothing set aside"

    def hold_again(self, name: str) -> None:
        rows = self.world.get(f"/projects/{self.repo.name}/flaky")["tests"]
        number = next(r["quarantine"]["id"] for r in rows if r["quarantine"] and r["title"].endswith(name))
        answer = self.world.http.delete(f"/projects/{self.repo.name}/quarantines/{number}", params={"why": "over"})
        assert answer.status_code < 300, answer.text
        self.model.quarantined.discard(name)

    def pull(self) -> str:
        name = self.rng.choice(list(self.heads))
        if name == "main" or name not in self.there or any(p.branch == name for p in self.pulls):
            return "no pull request"
        return f"pull request {self.ask_for(name)} of {name}"

    def ask_for(self, name: str) -> int:
        if self.there[name] is not self.heads[name]:
            self.push(name)
        pull = Pull(len(self.pulls) + 1 + 100 * self.counter, name)
        told = self.world.http.put(
            f"/projects/{self.repo.name}/pull-requests/{pull.number}", json={"source": name, "target": "main"}
        )
        assert told.status_code == 200, told.text
        self.pulls.append(pull)
        self.pulled(pull)
        return pull.number

    def close_pull(self) -> str:
        if not self.pulls:
            return "no pull request to close"
        pull = self.pulls.pop(self.rng.randrange(len(self.pulls)))
        answer = self.world.http.put(
            f"/projects/{self.repo.name}/pull-requests/{pull.number}", json={"state": "closed"}
        )
        assert answer.status_code == 200, answer.text
        self.model.gone.add(f"pull-request {pull.number}")
        return f"pull request {pull.number} closed"

    def delete_branch(self) -> str:
        name = self.rng.choice(list(self.heads))
        if name == "main" or f"push {name}" not in {c for k in self.commits for c in k.said}:
            return "nothing deleted"
        if any(p.branch == name for p in self.pulls):
            return "nothing deleted that is asked for"
        self.delete(name)
        return f"{name} deleted"

    def delete(self, name: str) -> None:
        self.heads.pop(name)
        self.there.pop(name, None)
        self.repo.git("push", "--quiet", "origin", f":refs/heads/{name}")
        self.model.gone.add(f"push {name}")

    def again(self) -> str:
        judged = [
            (c, x)
            for c in self.commits
            for x, s in c.said.items()
            if s.ran and x.startswith("push ") and s.verdict != "undecided"
        ]
        return self.rerun(*self.rng.choice(judged))

    def rerun(self, commit: Commit, context: str) -> str:
        run = next(c["run"] for c in self.world.contexts(commit.id, self.repo.name) if c["context"] == context)
        answer = self.world.http.post(
            f"/projects/{self.repo.name}/runs/{run}/again", json={"which": "all", "cells": ""}
        )
        assert answer.status_code < 300, answer.text
        self.settle(commit, context, run)
        # the baseline and the jobs are those it had; only what is set aside may be another
        was = commit.said[context]
        new = self.model.judge(commit, by_hand=True)
        commit.said[context] = Said(
            new.verdict if was.ran == new.ran else self.rejudged(commit, was),
            new.good & was.ran,
            was.ran,
            lost=new.lost,
        )
        return f"#{run} again"

    def rejudged(self, commit: Commit, was: Said) -> str:
        bad = any(self.model.holds(commit, j, self.model.baseline(commit, j)) for j in was.ran)
        return "held" if bad or self.model.less(commit) else "clear"

    def evidence(self) -> str:
        """A partial run by hand, or results from elsewhere: they say nothing."""
        return self.part_of(self.rng.choice(list(self.heads)))

    def part_of(self, branch: str) -> str:
        commit = self.heads[branch]
        if not commit.said:
            return "nothing by hand"
        asked = [j for j in JOBS if j in commit.demands]
        if len(asked) < 2:
            return "nothing partial"
        answer = self.world.http.post(
            f"/projects/{self.repo.name}/runs", json={"ref": commit.id, "jobs": asked[:1], "cells": ""}
        )
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

    def nightly(self) -> str:
        """The night's run of main, in full: a context of its own."""
        if self.heads["main"] is not self.there["main"] or "push main" not in self.there["main"].said:
            return "no night"
        return self.night()

    def night(self) -> str:
        commit, site = self.there["main"], self.world.site
        assert site is not None
        newest = self.world.get(f"/projects/{self.repo.name}/strip")["columns"][-1]["run"]["number"]
        due = "UPDATE schedule SET next_at = now() - interval '1 hour' FROM project p WHERE p.id = project_id AND p.name = :name"
        with site.store.transaction() as session:
            session.execute(sql(due), {"name": self.repo.name})
        end = time.monotonic() + 90
        while time.monotonic() < end:
            found = [c["run"] for c in self.world.contexts(commit.id, self.repo.name) if c["context"] == NIGHTLY]
            if found and found[0] > newest:
                self.settle(commit, NIGHTLY, found[0])
                commit.said[NIGHTLY] = self.model.judge(commit, context=NIGHTLY)
                return f"a night over {commit.id[:8]}"
            time.sleep(0.15)
        raise AssertionError("the night's run never came")

    def sent(self) -> str:
        """Results that somebody made elsewhere and sends: evidence, whatever they say."""
        commit = self.rng.choice(self.commits)
        if not commit.said:
            return "nothing sent"
        self.counter += 1
        report, name = f"elsewhere-{self.counter}.xml", self.rng.choice(NAMES["unit"])
        failed = self.rng.choice(("", "<failure message='adrift'/>"))
        (self.repo.tree.parent / report).write_text(
            f"<testsuite name='unit'><testcase name='{name}'>{failed}</testcase></testsuite>"
        )
        words = ("send", self.repo.name, report, "--job", "unit", "--cell", "lua=5.4", "--commit", commit.id)
        done = self.world.command(*words, cwd=self.repo.tree.parent)
        assert done.returncode == 0, done.stderr
        return f"{name} {'failed' if failed else 'passed'} elsewhere, at {commit.id[:8]}"

    def killed(self) -> str:
        """A part is killed while a push is on its way: what is told in the end is the same."""
        victim = self.rng.choice(("runner", "server", "worker", "database"))
        installation = self.world.installation
        part = next((p.process for p in installation.parts.parts if p.name == victim), None)
        pid = installation.database.pid if victim == "database" else part.pid if part is not None else 0
        files, branch = steady(self.heads["main"].files), "main"
        name = self.rng.choice(NAMES["unit"])
        files[f"tests/unit/{name}"] = f"{name} {self.rng.choice(('pass', 'fail'))}\n"
        files.pop(f"attic/{name}", None)
        self.commit(branch, files, self.heads[branch], self.heads[branch].demands)
        threading.Timer(self.rng.random() * 2, os.kill, (pid, signal.SIGKILL)).start()
        self.push(branch)
        return f"{victim} killed while {name} is pushed"

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
        for branch in self.heads:
            if accepted := self.accept_at(branch):
                return accepted
        return "nothing to accept"

    def accept_at(self, branch: str) -> str:
        """What a branch's plan asks less is accepted; empty when it asks nothing less."""
        commit, context = self.heads[branch], f"push {branch}"
        less = self.model.less(commit)
        if less and context in commit.said:
            run = next(c["run"] for c in self.world.contexts(commit.id, self.repo.name) if c["context"] == context)
            view = self.world.get(f"/projects/{self.repo.name}/runs/{run}")
            lines = view["acceptable"]["loosened"]
            assert lines, (view["run"]["sentence"], less)
            answer = self.world.http.post(
                f"/projects/{self.repo.name}/runs/{run}/acceptances", json={"reason": "for now", "loosened": lines}
            )
            assert answer.status_code == 201, answer.text
            before = self.model.clear_before(commit)
            assert before is not None
            self.model.accepted.append((commit, less, before.demands))
            was = commit.said[context]
            verdict = self.rejudged(commit, was)
            commit.said[context] = replace(was, verdict=verdict)
            self.wait_for(commit, context, verdict)
            return f"{branch}: accepted {sorted(less)}"
        return ""

    def wait_for(self, commit: Commit, context: str, verdict: str) -> None:
        end = time.monotonic() + 10
        while time.monotonic() < end:
            said = self.world.contexts(commit.id, self.repo.name)
            if any(c["context"] == context and c["verdict"] == verdict for c in said):
                return
            time.sleep(0.15)

    def set_aside(self) -> str:
        """Quarantine a test that fails somewhere: it holds nothing that is judged from now on."""
        for job in JOBS:
            for name, state in self.heads["main"].tests(job).items():
                fit = state == "fail" and name not in self.model.quarantined and self.heads["main"].said
                if fit and self.aside(name, self.heads["main"]):
                    return f"{name} set aside"
        return "nothing to set aside"

    def aside(self, name: str, commit: Commit) -> bool:
        """A test that a commit's run lists is quarantined."""
        run = self.world.word(commit.id, self.repo.name)
        assert run is not None
        rows = self.world.get(f"/projects/{self.repo.name}/runs/{run['run']}/tests", state="all", limit=100)
        numbers = [t["test"] for t in rows["rows"] if t["name"] == name]
        if numbers:
            until = (datetime.now(UTC) + timedelta(days=9)).isoformat()
            wish = {"tests": numbers, "reason": "drifts", "owner": "Ada", "until": until}
            answer = self.world.http.post(f"/projects/{self.repo.name}/quarantines", json=wish)
            assert answer.status_code == 201, answer.text
            self.model.quarantined.add(name)
        return bool(numbers)

    # walks: what people do in a row, on main or on a topic that begins there

    def fresh(self, job: str = "unit") -> str:
        self.counter += 1
        return f"{job}_fresh_{self.counter}"

    def put(self, branch: str, demands: frozenset[str] | None = None, /, **states: str) -> None:
        """Tests of a branch end so from now on ("hide": in the attic, "delete": gone); src_NAME is a file there."""
        files = dict(self.heads[branch].files)
        for name, state in states.items():
            job, _, rest = name.partition("_")
            path, attic = (f"src/{rest}", "") if job == "src" else (f"tests/{job}/{name}", f"attic/{name}")
            files.pop(path, None)
            files.pop(attic, None)
            if state == "hide":
                files[attic] = f"{name} pass\n"
            elif state != "delete":
                files[path] = f"{self.counter}\n" if job == "src" else f"{name} {state}\n"
        self.counter += 1
        if demands is not None:
            files["myriant.toml"] = plan_of(demands)
        self.commit(branch, files, self.heads[branch], self.heads[branch].demands if demands is None else demands)
        self.push(branch)
        self.log.append(f"  {branch}: {states}{'' if demands is None else sorted(demands)}")
        self.look()

    def onto_main(self, topic: str) -> None:
        self.heads["main"] = self.heads[topic]
        self.push("main")
        self.look()

    def ready(self) -> None:
        """Main is pushed, and nothing of what was tried on it is left."""
        if self.there["main"] is not self.heads["main"]:
            self.push("main")
        self.put("main", src_garbled="delete", src_harness="delete")

    def walk_parted(self) -> str:
        """A commit is held on a topic and clear on main, as one test was set aside between; then the topic goes."""
        x, n, demands = self.fresh(), self.fresh(), frozenset(DEMANDS)
        self.ready()
        if more := self.rng.random() < 0.5:
            self.put("main", demands - {DEMANDS[2]}, **{self.fresh(): "pass"})
            self.accept_at("main")
        topic = self.topic(self.heads["main"])
        self.put(topic, demands if more else None, **{x: "fail", n: "pass"})
        self.aside(x, self.heads[topic])
        self.onto_main(topic)
        parted = self.heads["main"]
        if self.rng.random() < 0.6:
            self.put("main", demands - {DEMANDS[2]} if more else None, **{n: self.rng.choice(("hide", "pass"))})
        if not any(p.branch == topic for p in self.pulls):
            self.delete(topic)
        self.compare(parted)
        return f"{x} held on {topic}, which came to main when it was set aside"

    def walk_night(self) -> str:
        """What is set aside by day holds at night, and what fails since then is not known."""
        x, n = self.fresh(), self.fresh()
        self.ready()
        self.put("main", **{x: "fail"})
        self.aside(x, self.heads["main"])
        self.put("main", **{n: "pass"})
        self.hold_again(x)
        self.night()
        self.look()
        self.put("main", **{x: "fail"})
        self.put("main", **{x: self.rng.choice(("fail", "pass")), n: self.rng.choice(("hide", "pass"))})
        if self.rng.random() < 0.6:  # what the day lost is lost by night too, whose own baseline never knew it
            self.night()
            self.look()
        return f"{x} was set aside by day"

    def walk_shy(self) -> str:
        x = self.fresh()
        self.ready()
        self.put("main", **{x: "shy"})
        self.rerun(self.heads["main"], "push main")
        self.look()
        self.put("main", **{x: self.rng.choice(("pass", "hide", "fail"))})
        return f"{x} fails at first, and is not there again"

    def walk_less(self) -> str:
        """The same is asked less on two branches, of two plans; what one was accepted for is not the other's."""
        self.ready()
        self.put("main", frozenset(DEMANDS), src_lock="more")
        topic = self.topic(self.heads["main"])
        self.put(topic, frozenset(DEMANDS) - {DEMANDS[2]}, src_lock="less")
        self.accept_at(topic)
        self.look()
        self.put("main", frozenset(DEMANDS) - {DEMANDS[1]}, src_lock="less")
        self.accept_at("main")
        self.look()
        self.put("main", frozenset(DEMANDS) - {DEMANDS[1], DEMANDS[2]}, src_lock="less")
        if self.rng.random() < 0.5:
            self.accept_at("main")
            self.look()
        return f"vanished tests may pass on {topic}"

    def walk_less_and_lost(self) -> str:
        """The plan asks less, then a test is lost: accepting the one does not make up for the other."""
        n, less = self.fresh(), frozenset(DEMANDS) - {DEMANDS[3]}
        self.ready()
        self.put("main", frozenset(DEMANDS), src_lock="more")
        self.put("main", less, **{n: "pass"})
        self.put("main", less, **{n: "hide"})
        self.accept_at("main")
        self.look()
        return f"{n} is lost while the plan asks less"

    def walk_both(self) -> str:
        """A push that touches what one job watches, and much else."""
        x = self.fresh("slow")
        self.ready()
        self.put("main", **{x: self.rng.choice(("fail", "pass")), "src_lock": "all", self.fresh(): "pass"})
        self.part_of("main")
        self.look()
        self.put("main", **{x: "pass", "src_lock": "all"})
        return f"{x} and others at once"

    def walk_pull(self) -> str:
        """A pull request of somebody whose target fails already, with a second head."""
        x, y = self.fresh(), self.fresh()
        self.ready()
        self.put("main", **{y: "fail"})
        topic = self.topic(self.heads["main"])
        self.put(topic, **{self.fresh("slow"): "pass"})
        self.ask_for(topic)
        self.look()
        self.put(topic, **{x: self.rng.choice(("fail", "pass"))})
        self.put("main", **{y: "pass"})
        self.put(topic, **{x: "pass"})
        return f"a pull request of {topic}"

    def walk_elsewhere(self) -> str:
        """A test that only a topic ever had is lost there: nothing of main's."""
        n = self.fresh()
        self.ready()
        topic = self.topic(self.heads["main"])
        self.put(topic, **{n: "pass"})
        self.put(topic, **{n: "hide"})
        self.put("main", **{self.fresh(): "pass"})
        self.put(topic, **{self.fresh(): "pass"})
        return f"{n} is lost on {topic}"

    def walk_harness(self) -> str:
        """The harness ends badly beside what is set aside; or what it writes cannot be read."""
        x = self.fresh()
        self.ready()
        self.put("main", frozenset(DEMANDS), **{x: "fail"})
        self.aside(x, self.heads["main"])
        self.put("main", **{self.rng.choice(("src_harness", "src_garbled", "src_lock")): "bad"})
        self.put("main", **{self.rng.choice(("src_harness", "src_garbled")): "bad", self.fresh(): "pass"})
        return f"a bad harness beside {x}"

    # what is said

    def step(self, action: Action | None = None) -> None:
        """One of the actions, by chance if none is given, and every place asked after it."""
        self.log.append((action or self.rng.choice(ACTIONS))(self))
        self.look()

    def look(self) -> None:
        """Every place, for the heads of all branches and some more commits."""
        self.looks += 1
        several = [c for c in self.commits if len(c.said) > 1]  # where contexts differ, places can
        more = [
            *self.rng.sample(self.commits, min(2, len(self.commits))),
            *self.rng.sample(several, min(3, len(several))),
        ]
        touched = {c.id: c for c in [*self.heads.values(), *more]}
        for commit in touched.values():
            self.compare(commit)

    def exit_status(self, *words: str) -> int:
        """Of the command, here in this process: to start one takes longer than everything else that is asked."""
        data = {"MYRIANT_DATA": str(self.world.installation.place.data)}
        with mock.patch.dict(os.environ, data), redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()):
            try:
                COMMAND(list(words), prog_name="myriant")
            except SystemExit as ended:
                return int(ended.code or 0)
        raise AssertionError("the command did not end")

    def compare(self, commit: Commit) -> None:
        must = self.model.word(commit)
        end = time.monotonic() + 60  # a note follows a moment later
        while (odd := self.disagreements(commit, must)) and time.monotonic() < end:
            time.sleep(0.2)
        self.told[must] += 1
        if odd:
            stands = [
                (c["context"], c["verdict"], c["sentence"]) for c in self.world.contexts(commit.id, self.repo.name)
            ]
            model = {x: (s.verdict, sorted(s.ran), sorted(s.good)) for x, s in commit.said.items()}
            told = {v[0] if isinstance(v, tuple) else v for v in odd.values()}
            passes = {"clear", "exempt"}
            false_clear, false_held = must not in passes and told & passes, must in passes and "held" in told
            raise Disagreement(
                "false clear" if false_clear else "false held" if false_held else "disagreement",
                f"{commit.id[:8]} must be {must}, and {odd}\ncontexts: {stands}\nmodel: {model}\nsteps: "
                + "\n  ".join(["", *self.log]),
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
            ["git", "-C", str(self.repo.origin), "notes", "--ref=myriant", "show", commit.id],
            capture_output=True,
            text=True,
        ).stdout
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
        said["exit status"] = (self.exit_status("verdict", commit.id, "--project", name), EXITS[must])
        return {k: v for k, v in said.items() if (v[0] != v[1] if isinstance(v, tuple) else v != must)}


Action = Callable[[Driver], str]
_D = Driver
ACTIONS: list[Action] = [
    *[_D.edit] * 6,
    *[_D.mend] * 3,
    *[_D.words_only] * 3,
    _D.branch_off,
    *[_D.fast_forward] * 2,
    _D.delete_branch,
    _D.again,
    _D.evidence,
    _D.by_hand,
    _D.tag,
    _D.change_plan,
    *[_D.accept] * 2,
    *[_D.set_aside] * 2,
    _D.end_quarantine,
    _D.merge,
    _D.revert,
    *[_D.rename] * 2,
    _D.two_at_once,
    _D.stop,
    _D.back,
    *[_D.pull] * 2,
    _D.close_pull,
    _D.nightly,
    _D.sent,
]
WALKS: list[Action] = [
    _D.walk_parted,
    _D.walk_night,
    _D.walk_shy,
    _D.walk_less,
    _D.walk_less_and_lost,
    _D.walk_both,
    _D.walk_pull,
    _D.walk_elsewhere,
    _D.walk_harness,
]


def live(world: World, name: str, seed: int, steps: int) -> Driver:
    """A history of so many steps; raises AssertionError at the first place that says something else."""
    driver = Driver(world, name, seed)
    for _ in range(steps):
        driver.step()
    return driver
