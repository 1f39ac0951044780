"""Mutants of flow, runner, api and store: which of them the nearest tests notice.

`python -m tests.bench.mutants [EACH] [SEED] [SIDE BY SIDE] [REACHED]`: so many of each package, chosen by chance among
everything that can be changed in its functions: a comparison turned, a condition denied, "and" for "or", a number one
more, a call for its effect left out. Each runs the tests of its room until the first fails; with the folder in which
`tests/bench/reached` has noted what each test reaches, the tests that reach it, the quickest first. A test that does not pass without the mutant
either catches nothing.
"""

from __future__ import annotations

import ast
import json
import random
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from tests.bench.altered import ROOT, Alteration, altered, run

SOURCES = ROOT / "src/myriant"
PACKAGES = ("flow", "runner", "api", "store")
LONGEST = 1500.0
BATCHES = (40.0, 120.0, 240.0)  # seconds of tests that are run before more are
NEAREST = {
    "flow/intake": ["stories/test_events.py", "stories/test_projects.py", "stories/test_diagnosis.py"],
    "flow/compare": ["stories/test_trust.py", "stories/test_events.py", "stories/test_bounds.py"],
    "flow/upkeep": ["stories/test_upkeep.py", "stories/test_bounds.py"],
    "flow/planning": ["stories/test_events.py", "stories/test_trust.py"],
    "flow/dispatch": ["flow/test_fleet.py", "flow/test_execution.py"],
    "flow/delivery": ["flow/test_logs.py", "flow/test_files.py", "flow/test_execution.py"],
    "flow/ingest": ["stories/test_trust.py", "stories/test_diagnosis.py"],
    "flow/conclude": ["stories/test_trust.py", "stories/test_events.py", "stories/test_diagnosis.py"],
    "flow/announce": ["stories/test_telling.py", "stories/test_push_to_verdict.py"],
    "flow/state": ["stories/test_states.py", "stories/test_events.py", "flow/test_execution.py"],
    "flow/actions/searches": ["stories/test_repeats.py", "stories/test_diagnosis.py", "e2e/test_diagnosis_screens.py"],
    "flow/actions/repeating": ["stories/test_repeats.py", "flow/test_execution.py"],
    "flow/actions": ["flow/test_execution.py", "stories/test_diagnosis.py", "stories/test_projects.py"],
    "flow/views/plan": ["api/test_plans_over_http.py", "e2e/test_workbench.py"],
    "flow/diagnose/search": ["stories/test_repeats.py", "stories/test_diagnosis.py"],
    "flow/diagnose/controls": ["stories/test_repeats.py", "flow/test_execution.py"],
    "flow/diagnose/flakes": ["stories/test_repeats.py", "stories/test_diagnosis.py"],
    "flow/views/findings": ["stories/test_diagnosis.py", "stories/test_repeats.py", "e2e/test_diagnosis_screens.py"],
    "flow/views/tests": ["stories/test_diagnosis.py", "e2e/test_diagnosis_screens.py"],
    "flow/views": [
        "stories/test_questions.py",
        "stories/test_projects.py",
        "stories/test_events.py",
        "e2e/test_numbers.py",
    ],
    "flow/drill/trial": ["stories/test_drill.py"],
    "flow/admin/filters": ["api/test_api.py"],
    "flow/admin": ["stories/test_projects.py", "stories/test_diagnosis.py", "stories/test_telling.py"],
    "flow": ["flow/test_logs.py", "stories/test_push_to_verdict.py", "stories/test_projects.py"],
    "runner/attempt": ["flow/test_execution.py", "flow/test_files.py", "adversary/test_commits.py"],
    "runner/inside": ["runner", "adversary/test_commits.py"],
    "runner": ["runner", "flow/test_fleet.py", "flow/test_execution.py"],
    "api/protocol": ["flow/test_fleet.py", "flow/test_execution.py"],
    "api/attempts": ["api", "stories/test_releases.py"],
    "api/batches": ["api", "stories/test_together.py"],
    "api/live": ["api", "e2e/test_browser.py"],
    "store/outcomes": ["stories/test_telling.py", "stories/test_projects.py"],
    "api/door": ["adversary/test_requests.py", "api"],
    "api/serving": ["adversary/test_requests.py", "api"],
    "api": ["api", "stories/test_projects.py", "stories/test_telling.py"],
    "store/aside": ["stories/test_trust.py"],
    "store/attempts": ["flow/test_execution.py", "stories/test_diagnosis.py"],
    "store/controls": ["flow/test_execution.py", "stories/test_diagnosis.py"],
    "store/history": ["stories/test_diagnosis.py", "stories/test_projects.py"],
    "store/logs": ["flow/test_logs.py", "stories/test_diagnosis.py"],
    "store/results": ["store", "stories/test_trust.py", "stories/test_diagnosis.py"],
    "store/runners": ["flow/test_fleet.py"],
    "store/trends": ["stories/test_questions.py", "stories/test_projects.py"],
    "store": ["store", "stories/test_projects.py", "stories/test_events.py"],
}
_TURNED: dict[type[ast.cmpop], str] = {
    ast.Lt: "<=",
    ast.LtE: "<",
    ast.Gt: ">=",
    ast.GtE: ">",
    ast.Eq: "!=",
    ast.NotEq: "==",
    ast.In: "not in",
    ast.NotIn: "in",
    ast.Is: "is not",
    ast.IsNot: "is",
}


@dataclass(frozen=True, slots=True)
class Mutant:
    file: str
    line: int
    begin: int  # places in the file's text
    end: int
    now: str


def mutants_of(file: Path) -> Iterator[Mutant]:
    """Everything that can be changed in a file's functions."""
    text = file.read_text()
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line))
    name = str(file.relative_to(SOURCES))

    def at(node: ast.expr | ast.stmt, now: str) -> Mutant:
        assert node.end_lineno is not None and node.end_col_offset is not None
        begin = starts[node.lineno - 1] + len(text.splitlines()[node.lineno - 1].encode()[: node.col_offset].decode())
        end = starts[node.end_lineno - 1] + len(
            text.splitlines()[node.end_lineno - 1].encode()[: node.end_col_offset].decode()
        )
        return Mutant(name, node.lineno, begin, end, now)

    for function in (n for n in ast.walk(ast.parse(text)) if isinstance(n, ast.FunctionDef | ast.AsyncFunctionDef)):
        for node in ast.walk(ast.Module(function.body, [])):
            if isinstance(node, ast.Compare) and len(node.ops) == 1:
                left, right = ast.unparse(node.left), ast.unparse(node.comparators[0])
                yield at(node, f"({left} {_TURNED[type(node.ops[0])]} {right})")
            elif isinstance(node, ast.BoolOp):
                words = " or " if isinstance(node.op, ast.And) else " and "
                yield at(node, f"({words.join(f'({ast.unparse(v)})' for v in node.values)})")
            elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
                yield at(node, f"({ast.unparse(node.operand)})")
            elif isinstance(node, ast.Constant) and type(node.value) is int and node.value <= 2:
                yield at(node, str(node.value + 1))
            elif isinstance(node, ast.If | ast.IfExp) and not isinstance(node.test, ast.Compare | ast.BoolOp):
                yield at(node.test, f"(not ({ast.unparse(node.test)}))")
            elif isinstance(node, ast.Expr) and isinstance(node.value, ast.Call | ast.Await) and not _is_said(node):
                yield at(node, "pass")


def _is_said(node: ast.Expr) -> bool:
    """Whether a call only tells people: in a log of the server, or beside a step's output."""
    return any(word in ast.unparse(node) for word in ("_log.", "ground.say("))


def chosen(each: int, seed: int) -> list[Mutant]:
    """So many mutants of each package, no two of one function's line."""
    found: list[Mutant] = []
    for package in PACKAGES:
        files = [f for f in sorted((SOURCES / package).rglob("*.py")) if "migrations" not in f.parts]
        every = list({(m.file, m.line): m for f in files if f.parent.name != "tables" for m in mutants_of(f)}.values())
        found += random.Random(f"{seed} {package}").sample(every, each)
    random.Random(seed).shuffle(found)  # of a table that is not finished each package has its share
    return found


@dataclass(frozen=True, slots=True)
class Reached:
    """Which tests reach a statement, by file and line, and the seconds that each takes."""

    tests: dict[tuple[str, int], set[str]]
    seconds: dict[str, float]

    def batches(self, mutant: Mutant) -> list[list[str]] | None:
        """The tests that reach a mutant, the quickest first, in growing batches; None where nothing was noted."""
        if mutant.file.startswith("runner/inside"):
            return None
        tree = ast.parse((SOURCES / mutant.file).read_text())
        around = [
            node
            for node in ast.walk(tree)
            if isinstance(node, ast.stmt) and node.lineno <= mutant.line <= (node.end_lineno or node.lineno)
        ]
        line = max(node.lineno for node in around)
        left = sorted(self.tests.get((mutant.file, line), ()), key=lambda t: self.seconds.get(t, 60.0))
        found: list[list[str]] = []
        for most in BATCHES:
            taken: list[str] = []
            while left and (not taken or sum(self.seconds.get(t, 60.0) for t in [*taken, left[0]]) <= most):
                taken.append(left.pop(0))
            # a module's tests side by side: what is set up for all of them is set up once
            found += [sorted(taken, key=lambda t: t.partition("::")[0])] if taken else []
        return found


def reached_in(folder: Path) -> Reached:
    tests: dict[tuple[str, int], set[str]] = {}
    for file in folder.glob("seen-*"):
        for row in file.read_text().splitlines():
            test, path, line = row.rsplit("\t", 2)
            tests.setdefault((path, int(line)), set()).add(test)
    told = (row.rsplit("\t", 1) for file in folder.glob("tests-*") for row in file.read_text().splitlines())
    return Reached(tests, {test: float(seconds) for test, seconds in told})


def measure(each: int = 16, seed: int = 11, side_by_side: int = 4, reached: str = "") -> None:
    mutants = chosen(each, seed)
    known = reached_in(Path(reached)) if reached else None
    with ThreadPoolExecutor(side_by_side) as threads:
        caught = list(threads.map(lambda m: _try(m, known), mutants))
    by_package = {p: [c for m, c in zip(mutants, caught, strict=True) if m.file.startswith(f"{p}/")] for p in PACKAGES}
    rows = {p: {"mutants": len(c), "caught": sum(c)} for p, c in by_package.items()}
    line = {"measure": "mutants", "seed": seed, "mutants": len(caught), "caught": sum(caught), **rows}
    print(json.dumps(line), flush=True)


def _try(mutant: Mutant, reached: Reached | None) -> bool:
    text = (SOURCES / mutant.file).read_text()
    was = text[mutant.begin : mutant.end]
    line = text.splitlines()[mutant.line - 1].strip()
    # the whole text around it makes the place unique
    change = Alteration(mutant.file, text, text[: mutant.begin] + mutant.now + text[mutant.end :])
    room = max((r for r in NEAREST if mutant.file.startswith(r)), key=len)
    batches = reached.batches(mutant) if reached is not None else None
    if batches is None:
        batches = [[f"tests/{t}" for t in NEAREST[room]]]
    began = time.monotonic()
    caught, by = False, "" if batches else "no test reaches it"
    with altered(change) as folder:
        for batch in batches:
            status, said = run(folder, ["pytest", "-x", "-q", "-p", "no:cacheprovider", *batch], LONGEST)
            failed = next((row for row in said.splitlines() if row.startswith(("FAILED", "ERROR"))), "")
            caught, by = status != 0, failed[:160] if status is not None else "it hangs"
            if caught:
                break
    test = by.split(" ")[1] if caught and by.startswith(("FAILED", "ERROR")) else ""
    sure = not caught or not test or _passes_else(test)
    tests = sum(map(len, batches))
    told = {"measure": "mutant", "file": mutant.file, "line": mutant.line, "code": line, "was": was, "now": mutant.now}
    took = round(time.monotonic() - began)
    print(
        json.dumps(
            {**told, "caught": caught and sure, "by": by if sure else f"DOUBTFUL {by}", "tests": tests, "seconds": took}
        ),
        flush=True,
    )
    return caught and sure


@cache
def _passes_else(test: str) -> bool:
    """Whether a test that failed passes without a mutant: by itself, or with its module."""
    with altered(None) as folder:
        return any(
            run(folder, ["pytest", "-x", "-q", "-p", "no:cacheprovider", words], LONGEST)[0] == 0
            for words in (test, test.partition("::")[0])
        )


if __name__ == "__main__":
    each, seed, side_by_side, reached = (*sys.argv[1:5], *("16", "11", "4", "")[len(sys.argv) - 1 :])
    measure(int(each), int(seed), int(side_by_side), reached)
