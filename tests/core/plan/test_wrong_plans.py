"""Wrong plans: each answered with its place and mend. docs/plan-problems.md is made from them by

MYRIANT_WRITE=1 pytest tests/core/plan/test_wrong_plans.py
"""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from myriant.core.plan.advice_of_jobs import Surroundings
from myriant.core.plan.problems import Problem, with_edits
from myriant.core.plan.read import read_plan

DOCS = Path(__file__).parents[3] / "docs/plan-problems.md"
STEPS = '[[jobs.unit.steps]]\nname = "test"\ncommand = "lua run.lua -o out/unit.xml"\ncollect = { tests = ["out/unit.xml"] }'
AROUND = Surroundings(
    offers=frozenset({"lua 5.1", "lua 5.4", "lua 5.1.5", "lua 5.4.4", "label linux"}),
    secrets=frozenset({"TIDE_API_KEY"}),
    files=("myriant.toml", "tools/lock/test.sh", "conf/ci.envs", "run.lua"),
    branches=frozenset({"main", "season/2026"}),
    read=lambda path: 'requires = ["setuptools-scm"]' if path == "pyproject.toml" else "",
)


def cases() -> list[tuple[str, bool, str]]:
    found = []
    for part in Path(__file__).with_name("wrong_plans.txt").read_text().split("### ")[1:]:
        title, _, text = part.partition("\n")
        found.append((title.removesuffix(" [around]"), title.endswith("[around]"), text.replace("@steps", STEPS)))
    return found


CASES = cases()


@pytest.mark.parametrize(("title", "around", "text"), CASES, ids=[c[0] for c in CASES])
def test_a_wrong_plan_is_told_with_place_and_mend_and_its_repair_works(title: str, around: bool, text: str) -> None:
    known = AROUND if around else None
    problems = read_plan(text.encode(), around=known).problems
    assert problems, "nothing was found"
    lines = text.split("\n")
    for problem in problems:
        assert problem.message and problem.mend and problem.mend != problem.message
        assert 1 <= problem.line <= len(lines) and 1 <= problem.column <= len(lines[problem.line - 1]) + 1
        assert problem.text in lines[problem.line - 1]
        if problem.edits:
            mended = with_edits(text, problem.edits)
            left = [(p.message, p.text) for p in read_plan(mended.encode(), around=known).problems]
            assert (problem.message, problem.text) not in left, "the offered repair does not repair"


def row(title: str, problem: Problem) -> str:
    cells = [
        title,
        f"{problem.line}:{problem.column}",
        problem.level,
        problem.message,
        problem.mend,
        "yes" if problem.edits else "",
    ]
    return "| " + " | ".join(c.replace("|", "\\|").replace("\n", " ") for c in cells) + " |"


def test_the_table_in_the_docs_is_current() -> None:
    rows = [
        row(title, p)
        for title, around, text in CASES
        for p in read_plan(text.encode(), around=AROUND if around else None).problems
    ]
    table = (
        "# What is said of a wrong plan\n\n"
        f"{len(CASES)} wrong plans and every problem told of them: place (line:column), level, message, mend, and whether "
        "the workbench offers a repair. Made from `tests/core/plan/wrong_plans.txt` by a test.\n\n"
        "| plan | place | level | message | mend | repair |\n|---|---|---|---|---|---|\n" + "\n".join(rows) + "\n"
    )
    if os.environ.get("MYRIANT_WRITE"):
        DOCS.write_text(table)
    assert len(CASES) >= 60
    assert DOCS.read_text() == table
