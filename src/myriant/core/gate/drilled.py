"""A drill of a gate: artificial results that it must let through, or hold, by the plan's own rules."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from enum import StrEnum
from xml.sax.saxutils import quoteattr

from myriant.core.plan.intent import Intent
from myriant.core.plan.model import BuiltIn, Plan
from myriant.core.states import Verdict

LONGEST = timedelta(minutes=10)  # after which one that was killed is cleared away
LEAST_TESTS, MOST_TESTS = 3, 5000
LINES = 20  # of a made-up source file


@dataclass(frozen=True, slots=True)
class DrillPlace:
    """What one place said, and whether that was right."""

    place: str
    said: str
    right: bool


@dataclass(frozen=True, slots=True)
class DrillStep:
    title: str
    expected: str
    sentence: str
    places: list[DrillPlace]
    right: bool


@dataclass(frozen=True, slots=True)
class Drill:
    said: str
    passed: bool
    steps: list[DrillStep]


class Fault(StrEnum):
    """What is wrong with one cell."""

    NONE = "none"
    TEST = "test"
    STEP = "step"
    VOID = "void"
    REPORT = "report"
    VANISHED = "vanished"
    UNCOVERED = "uncovered"


@dataclass(frozen=True, slots=True)
class Scenario:
    """One commit of a drill: what is wrong with it, and what must be said of it."""

    title: str
    fault: Fault
    expected: Verdict


@dataclass(frozen=True, slots=True)
class Where:
    """The cell in which something goes wrong, and the step that reports tests in it, None without one."""

    job: str
    key: str
    step: int | None


def where_it_fails(found: Intent) -> Where | None:
    """The first binding cell, of a job that collects tests where there is one."""
    cells = [(j, c) for j in found.jobs if j.runs and not j.job.gated for c in j.cells if c.selected and not c.advisory]
    ranked = sorted(cells, key=lambda jc: _tests_step(jc[0].job.steps) is None)
    if not ranked:
        return None
    job, cell = ranked[0]
    return Where(job.job.id, cell.key, _tests_step(job.job.steps))


def _tests_step(steps: Sequence[object]) -> int | None:
    return next((i for i, s in enumerate(steps) if any(c.tests for c in getattr(s, "collect", ()))), None)


def scenarios(plan: Plan, where: Where) -> list[Scenario]:
    """What a plan's gate is tried with; what a plan does not ask is let through, and that is tried too."""
    tests = where.step is not None

    def by(rule: BuiltIn) -> Verdict:
        return Verdict.HELD if plan.level_of(rule) == "block" else Verdict.CLEAR

    made = [Scenario("everything passes", Fault.NONE, Verdict.CLEAR)]
    if tests:
        made.append(Scenario("one test fails in one cell", Fault.TEST, by(BuiltIn.NEW)))
        made.append(Scenario("a report is missing", Fault.REPORT, by(BuiltIn.VOID)))
        made.append(Scenario("a test vanishes", Fault.VANISHED, by(BuiltIn.VANISHED)))
    made.append(Scenario("a step fails beside its tests", Fault.STEP, by(BuiltIn.STEPS)))
    made.append(Scenario("a cell gives no result", Fault.VOID, by(BuiltIn.VOID)))
    if asks_coverage(plan):
        made.append(Scenario("nothing is covered any more", Fault.UNCOVERED, Verdict.HELD))
    return [*made, Scenario("everything passes again", Fault.NONE, Verdict.CLEAR)]


def asks_coverage(plan: Plan) -> bool:
    """Whether a blocking rule of the plan holds what covers nothing."""
    return any(
        r.level == "block"
        and r.measure in ("coverage.line", "coverage.changed")
        and r.sign == "at-least"
        and (r.limit == "baseline" or r.limit > 0)
        and r.since is None
        for r in plan.rules
    )


def tests_wanted(plan: Plan) -> int:
    """How many tests a cell reports: as many as the plan's rules ask for."""
    asked = [int(r.limit) for r in plan.rules if r.sign == "at-least" and r.limit != "baseline" and _counts(r.measure)]
    return min(MOST_TESTS, max([LEAST_TESTS, *asked]))


def _counts(measure: str) -> bool:
    return measure in ("tests.total", "tests.passed", "results.total", "results.passed")


def folders_of(plan: Plan) -> list[str]:
    """Where made-up sources lie, so that every rule about coverage has something to measure."""
    root = (plan.coverage.root or "").strip("/")
    named = [r.folder.strip("/") for r in plan.rules if r.folder]
    return list(dict.fromkeys([*named, *([root] if root else []), "drill"]))


def source(commit: int) -> str:
    """A made-up source file: each commit changes each line."""
    return "".join(f"water({commit}, {n})\n" for n in range(1, LINES + 1))


def junit(names: Sequence[str], failing: str = "") -> bytes:
    """A report of tests that pass, but for one."""
    cases = "".join(
        f"<testcase classname='drill' name={quoteattr(n)} time='0.01'>"
        + ("<failure message='this is a drill'/>" if n == failing else "")
        + "</testcase>"
        for n in names
    )
    return (
        f"<testsuite name='drill' tests='{len(names)}' failures='{int(failing in names)}'>{cases}</testsuite>".encode()
    )


def lcov(files: Sequence[str], *, covered: bool) -> bytes:
    """A report of lines that are all run, or none."""
    hits = int(covered)
    lines = "".join(f"DA:{n},{hits}\n" for n in range(1, LINES + 1))
    return "".join(f"TN:\nSF:{f}\n{lines}end_of_record\n" for f in files).encode()


SARIF = b'{"version": "2.1.0", "runs": [{"tool": {"driver": {"name": "drill"}}, "results": []}]}'
