"""The seams: random stories over all features at once, and what must hold between places after every step.

A story is a state machine of Hypothesis over one repository. After each step the pages that could have changed are
asked, and what two places say of one thing is compared by the table EQUALITIES. Nothing here knows what is right: it
knows what cannot be said at once.
"""

from __future__ import annotations

import csv
import io
import itertools
import json
import re
import subprocess
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import cached_property
from typing import Any
from xml.etree import ElementTree

import hypothesis.strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, precondition, rule

from inprocess import Stories, StoryRepository
from myriant.api.access import permissions_of
from myriant.api.app import api_routes
from myriant.core.gate.note import context_said
from myriant.flow.tasks import look_at
from myriant.flow.upkeep.timekeeping import keep_time
from worlds import writes

_numbers = itertools.count(1)
NAMES = ("ebb", "flood", "slack", "spring")
OUTCOMES = ("passed", "failed", "skipped", "gone", "pictured", "slow to pass")
BRANCHES = ("main", "side", "topic")
VARIANTS = ("plain", "retest", "advisory", "chained", "watching", "lenient", "one version", "unreadable", "tagged")
NOT_ASKED = re.compile(r"/live$|\.pdf$|/info/refs$|/report\.html$")  # streams, browsers, git's own protocol
ASKED_EACH_TIME = 5  # of a project's routes, and as many of a run's; the others at the next steps

FILLED: Mapping[str, Any] = {
    "text": "a",
    "days": 30,
    "path": "test.sh",
    "wanted": "{}",
    "job": "unit",
    "dimension": "lua",
    "one": "5.1",
    "other": "5.4",
    "value": "5.1",
    "change": "drop",
}


def plan(variant: str) -> str:
    """A plan with one feature more than the plain one."""
    if variant == "unreadable":
        return "version = 1\n[jobs.unit\n"
    lua = '["5.4"]' if variant == "one version" else '["5.1", "5.4"]'
    job = f'[jobs.unit]\nvary = {{ lua = {lua} }}\nruntime = ["lua"]\n'
    job += {"retest": "retry = { tests = 1 }\n", "advisory": 'advisory = [{ lua = "5.1" }]\n'}.get(variant, "")
    job += 'touching = ["test.sh", "myriant.toml"]\n' if variant == "watching" else ""
    step = (
        '[[jobs.unit.steps]]\nname = "test"\ncommand = "sh test.sh"\n'
        'collect = { tests = ["out/unit.xml"], attachments = ["shots/*"] }\n'
    )
    more = ""
    if variant == "chained":
        more = '[jobs.after]\nafter = ["unit"]\n[[jobs.after.steps]]\nname = "say"\ncommand = "echo after"\n'
    if variant == "tagged":
        more = (
            '[jobs.publish]\nafter = ["unit"]\nwhen = [{ tag = "v*" }]\ngated = true\n'
            'approval = { by = ["admin"], within = "2 days" }\n'
            '[[jobs.publish.steps]]\nname = "send"\ncommand = "echo sent"\n'
        )
    gate = '[gate]\nnew-failures = "warn"\nfailed-steps = "warn"\n' if variant == "lenient" else ""
    return "version = 1\n" + gate + job + step + more


def script(tests: Mapping[str, str]) -> str:
    """A test.sh whose report says so of each test."""
    rows, status, shown = [], 0, ""
    for name, outcome in tests.items():
        case = f'<testcase classname="tide" name="{name}" time="{0.5 if outcome.startswith("slow") else 0.01}">'
        if outcome in ("failed", "pictured"):
            status = 1
            case += f'<failure message="expected 1, got 2">trace of {name}</failure>'
        if outcome == "pictured":
            shown = "mkdir -p shots; echo picture > shots/it.png\n"
            case += "<system-out>[[ATTACHMENT|shots/it.png]]</system-out>"
        case += "<skipped/>" if outcome == "skipped" else ""
        rows += [f"{case}</testcase>"] if outcome != "gone" else []
    report = f'<testsuite name="s">{"".join(rows)}</testsuite>'
    return shown + writes(report, status=status)


# --- what a run says at its places -----------------------------------------------------------------


@dataclass
class Told:
    """One run, as each place that names it says it."""

    seams: Seams
    project: str
    number: int

    def get(self, path: str, **query: Any) -> Any:
        return self.seams.get(f"/projects/{self.project}{path}", **query)

    @cached_property
    def view(self) -> dict[str, Any]:
        return dict(self.get(f"/runs/{self.number}"))

    @cached_property
    def run(self) -> dict[str, Any]:
        return dict(self.view["run"])

    @cached_property
    def findings(self) -> dict[str, Any]:
        return dict(self.get(f"/runs/{self.number}/findings"))

    @cached_property
    def line(self) -> dict[str, Any] | None:
        return next((r for r in self.seams.runs(self.project) if r["number"] == self.number), None)

    @cached_property
    def column(self) -> dict[str, Any] | None:
        branch = self.run["branch"]
        if not branch or self.run["context"] != f"push {branch}":
            return None
        return next(
            (c for c in self.get("/strip", branch=branch)["columns"] if c["run"]["number"] == self.number), None
        )

    @cached_property
    def row(self) -> dict[str, str] | None:
        text = self.seams.text(f"/projects/{self.project}/runs.csv", wanted="{}")
        return next((r for r in csv.DictReader(io.StringIO(text)) if r.get("number") == str(self.number)), None)

    @cached_property
    def word(self) -> dict[str, Any] | None:
        found = self.seams.get(f"/words/{self.run['commit']}", project=self.project)
        return dict(found[0]) if found else None

    @cached_property
    def words(self) -> list[dict[str, Any]]:
        """What every project says of its commit, where it says something."""
        found = self.seams.get(f"/words/{self.run['commit']}")
        return [w for w in found if w["verdict"] != "none"]

    @cached_property
    def context(self) -> dict[str, Any] | None:
        return next((c for c in (self.word or {"contexts": []})["contexts"] if c["run"] == self.number), None)

    @cached_property
    def event(self) -> dict[str, Any] | None:
        events = [e["data"] for e in self.get("/outcomes", limit=500)["events"] if e["data"]["run"] == self.number]
        return events[-1] if events else None

    @cached_property
    def note(self) -> str:
        return str(self.seams.repo.note(self.run["commit"]))

    @cached_property
    def trend(self) -> dict[str, Any] | None:
        if not self.run["branch"] or self.run["context"] != f"push {self.run['branch']}":
            return None
        rows = self.get("/trends", branch=self.run["branch"])["runs"]
        if self.number not in rows["number"]:
            return None
        at = rows["number"].index(self.number)
        return {key: values[at] for key, values in rows.items()}

    @cached_property
    def exported(self) -> tuple[int, int, int, int] | None:
        """Tests, failures, errors and skipped of the JUnit XML that is given out."""
        answer = self.seams.world.http.get(f"/projects/{self.project}/runs/{self.number}/results.xml")
        if answer.status_code != 200:
            return None
        suites = ElementTree.fromstring(answer.text).iter("testsuite")
        rows = [[int(s.get(key, "0")) for key in ("tests", "failures", "errors", "skipped")] for s in suites]
        return tuple(map(sum, zip(*rows, strict=True))) if rows else (0, 0, 0, 0)  # type: ignore[return-value]

    @cached_property
    def noted(self) -> dict[tuple[str, str], str]:
        """What the note says by project and context."""
        heads = re.findall(r"^([^\n,]+), ([^\n:]+): (\w+)\nrun: #", self.note, re.MULTILINE)
        return {(project, context): verdict for project, context, verdict in heads}

    @property
    def decided(self) -> bool:
        return bool(self.run["ended_at"]) and self.run["verdict"] != "undecided"

    @property
    def judged(self) -> bool:
        """Whether it has cells that were judged by the gate."""
        return self.decided and bool(self.view["judged"])

    def of(self, part: str, key: str) -> Any:
        found = getattr(self, part)
        return None if found is None else found[key]

    def rule(self, built_in: str) -> int | None:
        row = next((j for j in self.view["judged"] if j["built_in"] == built_in), None)
        return int(row["value"]) if row is not None and str(row["value"]).isdigit() else None

    def total(self, *keys: str) -> int:
        return sum(int(c[key] or 0) for c in self.view["cells"] for key in keys)

    def advisory(self) -> bool:
        return any(c["advisory"] for c in self.view["cells"])


Place = Callable[[Told], Any]  # what a place says; None: nothing, here


@dataclass(frozen=True)
class Equality:
    """What every place that says it must say alike."""

    what: str
    places: Mapping[str, Place]
    when: Callable[[Told], bool] = field(default=lambda told: True)


EQUALITIES = (
    Equality(
        "verdict of a run",
        {
            "run": lambda t: t.run["verdict"],
            "list": lambda t: t.of("line", "verdict"),
            "strip": lambda t: (t.column or {"run": {"verdict": None}})["run"]["verdict"],
            "commit": lambda t: t.of("context", "verdict"),
            "events": lambda t: t.of("event", "verdict"),
            "trends": lambda t: t.of("trend", "verdict"),
            "csv": lambda t: t.of("row", "verdict"),
        },
        lambda t: t.decided,
    ),
    Equality(
        "sentence of a run",
        {
            "run": lambda t: t.run["sentence"],
            "list": lambda t: t.of("line", "sentence"),
            "strip": lambda t: (t.column or {"run": {"sentence": None}})["run"]["sentence"],
            "commit": lambda t: t.of("context", "sentence"),
            "events": lambda t: t.of("event", "sentence"),
            "note": lambda t: t.run["sentence"] if t.context is None or t.run["sentence"] in t.note else t.note,
        },
        lambda t: t.decided,
    ),
    Equality(
        "verdict in the note",
        {
            "run": lambda t: t.run["verdict"],
            "note": lambda t: t.noted.get((t.project, context_said(t.run["context"]))),
        },
        lambda t: t.decided and t.context is not None and t.run["context"] != "",
    ),
    Equality(
        "verdict of a commit over all projects",
        {
            "words": lambda t: worst([{**w, "ended": False} for w in t.words]),
            "note": lambda t: t.note.partition("\n")[0].removeprefix("verdict: ").partition(" ")[0] or None,
        },
        lambda t: t.decided and t.context is not None,
    ),
    Equality(
        "verdict of a commit",
        {
            "commit": lambda t: t.of("word", "verdict"),
            "list": lambda t: t.of("line", "word"),
            "strip": lambda t: (t.column or {"run": {"word": None}})["run"]["word"],
            "run": lambda t: t.run["word"],
            "worst context": lambda t: worst(t.word["contexts"]) if t.word and t.word["contexts"] else None,
        },
        lambda t: t.context is not None,
    ),
    Equality(
        "results of all cells",
        {
            "cells": lambda t: (t.total("total"), t.total("failed"), t.total("errored"), t.total("skipped")),
            "export": lambda t: t.exported,
        },
        lambda t: t.judged and all(c["attempt_id"] for c in t.view["cells"] if c["selected"]),
    ),
    Equality(
        "marks of the cells",
        {
            "run": lambda t: marks(t.view["cells"]),
            "timeline": lambda t: marks(t.get(f"/runs/{t.number}/timeline")["rows"]) or None,
        },
        lambda t: t.judged,
    ),
    Equality(
        "new failures",
        {
            "rule": lambda t: t.rule("new-failures"),
            "findings": lambda t: t.findings["tests"]["new"] + t.findings["tests"]["first"],
            "strip": lambda t: t.of("column", "new"),
            "trends": lambda t: t.of("trend", "new"),
        },
        lambda t: t.judged and not t.advisory(),
    ),
    Equality(
        "fixed tests",
        {
            "findings": lambda t: t.findings["fixed"],
            "strip": lambda t: t.of("column", "fixed"),
            "trends": lambda t: t.of("trend", "fixed"),
        },
        lambda t: t.judged and not t.advisory(),
    ),
    Equality(
        "tests that are listed",
        {
            "tests": lambda t: t.get(f"/runs/{t.number}/tests", state="all")["total"],
            "trends": lambda t: t.of("trend", "tests"),
        },
        lambda t: t.judged and not t.advisory() and t.run["verdict"] != "exempt",
    ),
    Equality(
        "number of tests that ran",
        {
            "run": lambda t: t.view["tests"],
            "trends": lambda t: None if t.trend is None else t.trend["tests"] - t.trend["skipped"],
        },
        lambda t: (
            t.judged and not t.advisory() and t.run["verdict"] != "exempt" and not t.findings["tests"]["quarantined"]
        ),
    ),
    Equality(
        "held because of a rule",
        {
            "verdict": lambda t: t.run["verdict"] == "held",
            "rules": lambda t: any(
                j["level"] == "block" and not j["met"] and not j["waived"] for j in t.view["judged"]
            ),
        },
        lambda t: t.judged and t.run["verdict"] in ("held", "clear"),
    ),
    Equality(
        "vanished tests",
        {
            "rule": lambda t: t.rule("vanished"),
            "findings": lambda t: t.findings["vanished"],
        },
        lambda t: t.judged and not t.advisory(),
    ),
)

_BADNESS = ("exempt", "clear", "undecided", "held")


def worst(contexts: list[dict[str, Any]]) -> str:
    """SEMANTICS: the worst of the newest verdict of each context; ended ones count only where no other has one."""
    living = [c["verdict"] for c in contexts if not c["ended"]] or [c["verdict"] for c in contexts]
    return max(living, key=_BADNESS.index)


def marks(rows: list[dict[str, Any]]) -> dict[str, str]:
    return {f"{r['job']} {r['key']}": r["mark"] for r in rows if r["mark"] not in ("", "unselected", "not-selected")}


# --- the stories -----------------------------------------------------------------------------------


class Seams(RuleBasedStateMachine):
    """Stories of one repository. `world` is set by whoever runs them."""

    world: Stories
    steps = 0  # of all stories
    asked = 0  # pages

    def __init__(self) -> None:
        super().__init__()
        self.name = f"seams-{next(_numbers)}"
        self.repo: StoryRepository = self.world.repository(self.name, None)
        self.tests: dict[str, dict[str, str]] = {"main": dict.fromkeys(NAMES[:3], "passed")}
        self.variant = {"main": "plain"}
        self.branch, self.count, self.turn = "main", 0, 0
        self.others: list[str] = []
        self.pulls: set[int] = set()
        self._cache: dict[str, Any] = {}

    @initialize()
    def begin(self) -> None:
        self.repo.commit({"myriant.toml": plan("plain"), "test.sh": script(self.tests["main"])}, "first")
        self.repo.push()
        self.badge = self.world.http.post(f"/projects/{self.name}/badge-key").json()["key"]
        self.after()

    def teardown(self) -> None:
        for name in (self.name, *self.others):
            self.world.http.delete(f"/projects/{name}", params={"really": name})

    # --- steps

    @rule(test=st.sampled_from(NAMES), outcome=st.sampled_from(OUTCOMES))
    def change_a_test(self, test: str, outcome: str) -> None:
        self.tests[self.branch][test] = outcome
        self.pushed({"test.sh": script(self.tests[self.branch])}, f"{test} {outcome}")

    @rule()
    def change_docs(self) -> None:
        self.pushed({"docs/words": f"words {self.count}"}, "words only")

    @rule(variant=st.sampled_from(VARIANTS))
    def change_the_plan(self, variant: str) -> None:
        self.variant[self.branch] = variant
        self.pushed({"myriant.toml": plan(variant)}, f"plan {variant}")

    @rule(test=st.sampled_from(NAMES), outcome=st.sampled_from(OUTCOMES))
    def push_on_top_while_nobody_works(self, test: str, outcome: str) -> None:
        with self.world.nobody_working():
            self.pushed({"docs/words": f"waits {self.count}"}, "waits", check=False)
            self.tests[self.branch][test] = outcome
            self.pushed({"test.sh": script(self.tests[self.branch])}, "on top", check=False)
        self.after()

    @rule(which=st.integers(0, 3))
    def stop_while_nobody_works(self, which: int) -> None:
        with self.world.nobody_working():
            self.pushed(
                {"test.sh": script(self.tests[self.branch]) + f"# {self.count}\n"}, "to be stopped", check=False
            )
            self.act("POST", f"/runs/{self.a_run(which)}/stop")
        self.after()

    @rule(branch=st.sampled_from(BRANCHES))
    def switch(self, branch: str) -> None:
        if branch not in self.tests:
            self.repo.git("checkout", "--quiet", "-b", branch)
            self.tests[branch], self.variant[branch] = dict(self.tests[self.branch]), self.variant[self.branch]
            self.branch = branch
            self.repo.push(branch)
            self.after()
        elif branch != self.branch:
            self.repo.git("checkout", "--quiet", branch)
            self.branch = branch

    @rule(source=st.sampled_from(BRANCHES))
    def merge(self, source: str) -> None:
        if source in self.tests and source != self.branch:
            self.repo.git("merge", "--quiet", "-X", "theirs", "--no-edit", source)
            self.tests[self.branch], self.variant[self.branch] = dict(self.tests[source]), self.variant[source]
            self.push()

    @rule()
    def push_the_one_before(self) -> None:
        if int(self.repo.git("rev-list", "--count", "HEAD")) > 2:
            self.repo.git("reset", "--quiet", "--hard", "HEAD~1")
            self.push("--force")

    @rule(branch=st.sampled_from(BRANCHES[1:]))
    def delete_branch(self, branch: str) -> None:
        if branch in self.tests and branch != self.branch:
            del self.tests[branch]
            self.repo.git("branch", "-D", branch)
            self.repo.git("push", "origin", f":refs/heads/{branch}")
            self.after()

    @rule(number=st.integers(1, 2), source=st.sampled_from(BRANCHES[1:]), state=st.sampled_from(["open", "closed"]))
    def pull_request(self, number: int, source: str, state: str) -> None:
        if source in self.tests:
            self.pulls.add(number)
            self.act("PUT", f"/pull-requests/{number}", source=source, target="main", title="a wish", state=state)

    @rule(which=st.integers(0, 5), how=st.sampled_from(["all", "not-passed"]))
    def again(self, which: int, how: str) -> None:
        self.act("POST", f"/runs/{self.a_run(which)}/again", which=how)

    @rule(which=st.integers(0, 5))
    def again_in_one_cell(self, which: int) -> None:
        self.act("POST", f"/runs/{self.a_run(which)}/again", which="chosen", cells="lua=5.4")

    @rule(test=st.integers(0, 3))
    def quarantine(self, test: int) -> None:
        self.act("POST", "/quarantines", tests=[test], reason="flickers", until=in_days(3))

    @rule(which=st.integers(0, 3))
    def end_quarantine(self, which: int) -> None:
        aside = [f["quarantine"]["id"] for f in self.get(f"/projects/{self.name}/flaky")["tests"] if f["quarantine"]]
        if aside:
            self.act("DELETE", f"/quarantines/{aside[which % len(aside)]}")

    @rule(which=st.integers(0, 3), everywhere=st.booleans())
    def waive(self, which: int, everywhere: bool) -> None:
        number = self.a_run(which)
        rules = [j["name"] for j in self.told(number).view["judged"] if not j["met"] and not j["waived"]]
        if rules:
            self.act(
                "POST",
                f"/runs/{number}/waivers",
                rule=rules[0],
                reason="known",
                until=in_days(2),
                everywhere=everywhere,
            )

    @rule(which=st.integers(0, 3))
    def accept(self, which: int) -> None:
        number = self.a_run(which)
        acceptable = self.told(number).view["acceptable"]
        if acceptable and (acceptable["loosened"] or acceptable["tests"]):
            self.act("POST", f"/runs/{number}/acceptances", reason="so wished", **acceptable)

    @rule(which=st.integers(0, 3))
    def take(self, which: int) -> None:
        number = self.a_run(which)
        found = self.told(number).findings["findings"]
        if found:
            self.act("PUT", f"/runs/{number}/findings/{found[0]['id']}/taking", title=found[0]["title"], note="mine")

    @rule(which=st.integers(0, 3), test=st.integers(0, 3))
    def search(self, which: int, test: int) -> None:
        self.act("POST", f"/runs/{self.a_run(which)}/tests/{test}/search")

    @rule(branch=st.sampled_from(BRANCHES), jobs=st.sampled_from([[], ["unit"]]))
    def by_hand(self, branch: str, jobs: list[str]) -> None:
        if branch in self.tests:
            self.act("POST", "/runs", ref=branch, jobs=jobs)

    @precondition(lambda self: not self.others)
    @rule()
    def watch_twice(self) -> None:
        other = f"{self.name}-b"
        answer = self.world.http.post("/projects", json={"address": str(self.repo.origin), "name": other})
        assert answer.status_code == 201, answer.text
        self.others.append(other)
        self.change_docs()

    @precondition(lambda self: bool(self.others))
    @rule()
    def forget_the_other(self) -> None:
        other = self.others.pop()
        answer = self.world.http.delete(f"/projects/{other}", params={"really": other})
        assert answer.status_code < 300, answer.text
        self.after()

    @rule()
    def rename(self) -> None:
        new = f"{self.name}-r" if not self.name.endswith("-r") else self.name.removesuffix("-r")
        self.act("PATCH", "", name=new, check=False)
        self.world.bells[new] = self.world.bells[self.name]
        self.name = self.repo.name = new
        self.after()

    @rule()
    def pause_push_and_resume(self) -> None:
        self.act("PATCH", "", paused=True, check=False)
        self.pushed({"docs/words": f"while paused {self.count}"}, "while paused", check=False)
        self.act("PATCH", "", paused=False)

    @rule()
    def tag(self) -> None:
        name = f"v{self.count}"
        self.count += 1
        self.repo.git("tag", "-f", name)
        self.repo.git("push", "--force", "origin", name)
        self.after()

    @rule(given=st.booleans())
    def approve(self, given: bool) -> None:
        for run in self.runs(self.name)[:3]:
            for word in self.told(run["number"]).view["approvals"]:
                if word["state"] == "waiting":
                    self.act("POST", f"/runs/{run['number']}/approvals/{word['job']}", given=given, reason="so wished")

    @rule(days=st.sampled_from([0, 1, 4]))
    def time_passes(self, days: int) -> None:
        keep_time(self.world.site, datetime.now(UTC) + timedelta(days=days))
        self.world.settle()
        self.after()

    @precondition(lambda self: len(self.pulls) == 2)
    @rule()
    def together(self) -> None:
        self.act("POST", "/batches", pulls=[1, 2])

    @rule()
    def drill(self) -> None:
        self.act("POST", "/drill")

    # --- how steps are done

    def push(self, *options: str) -> None:
        self.repo.push(self.branch, *options)
        self.after()

    def pushed(self, files: dict[str, str | None], message: str, *, check: bool = True) -> None:
        self.count += 1
        self.repo.commit(files, message)
        self.repo.push(self.branch)
        if check:
            self.after()

    def act(self, method: str, path: str, *, check: bool = True, **body: Any) -> None:
        """Something a person does; it may be refused, and never fails."""
        answer = self.world.http.request(method, f"/projects/{self.name}{path}", json=body)
        assert answer.status_code < 500, answer.text
        if check:
            self.after()

    def a_run(self, which: int) -> int:
        """One of the newest runs."""
        runs = self.runs(self.name)
        return int(runs[which % len(runs)]["number"])

    # --- what must hold

    def after(self) -> None:
        type(self).steps += 1
        self._cache.clear()
        for other in self.others:
            look_at(self.world.site, other)
        self.world.settle()
        self._cache.clear()
        for project in (self.name, *self.others):
            runs = self.runs(project)
            self.walk(project, runs)
            for run in (*runs[:1], *runs[1 + self.turn % 3 :][:1]):  # the newest, and one before it in turn
                self.agrees(self.told(run["number"], project))
        self.badge_agrees()
        self.desk_agrees()

    def told(self, number: int, project: str | None = None) -> Told:
        return Told(self, project or self.name, number)

    def runs(self, project: str) -> list[dict[str, Any]]:
        return list(self.get(f"/projects/{project}/runs", wanted="{}")["runs"])

    def get(self, path: str, **query: Any) -> Any:
        key = path + json.dumps(query, sort_keys=True)
        if key not in self._cache:
            type(self).asked += 1
            self._cache[key] = self.world.get(path, **query)
        return self._cache[key]

    def text(self, path: str, **query: Any) -> str:
        answer = self.world.http.get(path, params=query)
        assert answer.status_code == 200, answer.text
        return answer.text

    def walk(self, project: str, runs: list[dict[str, Any]]) -> None:
        """Ask pages: none may fail, whatever is there."""
        paths = [
            r.path for r in api_routes() if "GET" in r.methods and permissions_of(r)[0].name not in ("lease", "open")
        ]
        paths = [p for p in paths if not NOT_ASKED.search(p)]
        whole = [p for p in paths if "{number}" not in p and "{attempt}" not in p]
        of_runs = [p for p in paths if "{number}" in p]
        turn, turn_of_run = (
            [those[(self.turn + i) % len(those)] for i in range(ASKED_EACH_TIME)] for those in (whole, of_runs)
        )
        self.turn += ASKED_EACH_TIME
        filled: dict[str, Any] = {**FILLED, "project": project, "test": 0, "form": "xml"}
        filled |= {"commit": runs[0]["commit"], "number": runs[0]["number"], "base": runs[-1]["number"]} if runs else {}
        for path in [*turn, *(turn_of_run if runs else ())]:
            if "{report}" not in path and "{commit}" not in path.replace("{commit}", "" if runs else "{commit}"):
                self.ask(path, filled)
        if runs:
            view = self.told(runs[0]["number"], project).view
            attempts = [c["attempt_id"] for c in view["cells"] if c["attempt_id"]][:1]
            of_attempts = [p for p in paths if "{attempt}" in p]
            for attempt in attempts:
                self.ask(of_attempts[self.turn // ASKED_EACH_TIME % len(of_attempts)], {**filled, "attempt": attempt})
                for report in self.get(f"/attempts/{attempt}")["reports"][:1]:
                    self.ask("/reports/{report}/raw", {"report": report["id"]})

    def ask(self, path: str, filled: Mapping[str, Any]) -> None:
        type(self).asked += 1
        address = re.sub(r"\{(\w+)\}", lambda found: str(filled[found[1]]), path)
        wanted = {
            key: filled[key]
            for key in (
                "text",
                "days",
                "path",
                "commit",
                "wanted",
                "job",
                "dimension",
                "one",
                "other",
                "value",
                "change",
                "base",
            )
            if key in filled
        }
        answer = self.world.http.get(address, params=wanted if needs_query(path) else {})
        assert answer.status_code in (200, 404, 409, 422), f"{address}: {answer.status_code} {answer.text[:500]}"

    def agrees(self, told: Told) -> None:
        for equality in EQUALITIES:
            if equality.when(told):
                said = {place: value for place, ask in equality.places.items() if (value := ask(told)) is not None}
                values = list(said.values())
                assert all(v == values[0] for v in values), f"#{told.number}, {equality.what}: {said}"
        self.names_what_is_there(told)

    def names_what_is_there(self, told: Told) -> None:
        """Every run, commit and cell that an answer names exists, and stands where the answer says."""
        cells = {(c["job"], c["key"]) for c in told.view["cells"]}
        known = {r["number"] for r in self.runs(told.project)}
        for finding in told.findings["findings"] if told.decided else ():
            assert {(c["job"], c["key"]) for c in finding["cells"]} <= cells, (told.number, finding["cells"])
            for seen in filter(None, (finding["first_seen"], finding["back_since"])):
                assert seen["number"] in known and seen["number"] <= told.number, (told.number, seen)
        base = told.findings["baseline"] if told.decided else None
        if base is not None:
            assert base["number"] in known, (told.number, base["number"])
            tested = told.view["base"] or told.run["commit"]
            done = subprocess.run(
                ["git", "-C", str(self.repo.origin), "merge-base", "--is-ancestor", base["commit"], tested]
            )
            assert done.returncode == 0, f"#{told.number} is compared with #{base['number']}, no ancestor of it"
        if told.run["verdict"] == "clear" and told.judged:
            bad = [
                c
                for c in told.view["cells"]
                if c["selected"]
                and not c["advisory"]
                and not c["gated"]
                and c["state"] in ("void", "waiting", "running", "stopped")
            ]
            assert not bad, f"#{told.number} is clear with {bad}"

    def badge_agrees(self) -> None:
        """The badge of main says what is said of main's newest commit."""
        text = self.text(f"/badges/{self.badge}/verdict.svg", branch="main", text=str(self.steps))
        pushed = [r for r in self.runs(self.name) if r["context"] == "push main"]
        if pushed and pushed[0]["word"]:
            said = re.search(r'aria-label="[^"]*: (\w+)"', text)
            assert said and said[1] == pushed[0]["word"], (text[:200], pushed[0]["word"])

    def desk_agrees(self) -> None:
        rows = {p["project"]["name"]: p for p in self.get("/desk")["projects"]}
        for project in (self.name, *self.others):
            newest = rows[project]["project"]["newest"]
            line = next((r for r in self.runs(project) if newest and r["number"] == newest["number"]), None)
            assert (newest is None) == (line is None) and (line is None or line == newest), (newest, line)


def needs_query(path: str) -> bool:
    route = next(r for r in api_routes() if r.path == path)
    return any(p.field_info.is_required() for p in route.dependant.query_params)


def in_days(days: int) -> str:
    return (datetime.now(UTC) + timedelta(days=days)).isoformat()


def machines(world: Stories) -> Iterator[type[Seams]]:
    """The stories of a world."""
    Seams.world = world
    yield Seams
