"""Which test is which: jobs that get another name, are joined or split, parameters that change, sources that go."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from inprocess import Stories
from worlds import PLAN, junit, writes

Jobs = dict[str, tuple[list[str], dict[str, str]]]  # by job: its former names, its tests
P, F = "passed", "expected 1, got 2"
ABC = {"a": P, "b": P, "c": P}


def plan_of(jobs: Jobs, gate: str = "") -> dict[str, str | None]:
    """A plan and the scripts of its jobs, each of which writes a report."""
    text, files = "version = 1\n\n[events]\npush = {}\n", {}
    for job, (formerly, tests) in jobs.items():
        named = f"formerly = [{', '.join(map(repr, formerly))}]\n" if formerly else ""
        collect = 'collect = { tests = ["out/unit.xml"] }'
        step = f'[[jobs.{job}.steps]]\nname = "test"\ncommand = "sh {job}.sh"\n{collect}\n'
        text += f'\n[jobs.{job}]\ntitle = "{job.title()}"\n{named.replace(chr(39), chr(34))}\n{step}'
        failing = any(said != P for said in tests.values())
        files[f"{job}.sh"] = writes(junit(**tests), status=int(failing))
    return {"myriant.toml": text + gate, **files}


@pytest.mark.parametrize(
    ("name", "pushes", "verdict", "words"),
    [
        ("with", [{"unit": ([], ABC)}, {"tests": (["unit"], ABC)}], "clear", ""),
        # the line comes a push after the name, or before it
        ("after", [{"unit": ([], ABC)}, {"tests": ([], ABC)}, {"tests": (["unit"], ABC)}], "clear", ""),
        ("ahead", [{"unit": (["tests"], ABC)}, {"unit": ([], ABC)}], "clear", ""),
        ("gone", [{"unit": ([], ABC)}, {"tests": (["unit"], ABC)}, {"tests": ([], ABC)}], "clear", ""),
        ("twice", [{"u": ([], ABC)}, {"v": (["u"], ABC)}, {"w": (["u", "v"], ABC)}], "clear", ""),
        ("twice-b", [{"u": ([], ABC)}, {"v": (["u"], ABC)}, {"w": (["v", "u"], ABC)}], "clear", ""),
        ("loses", [{"unit": ([], ABC)}, {"tests": (["unit"], {"a": P, "b": P})}], "held", "1 test vanished"),
        # what failed under the old name is known, what fails under the new one is new
        ("breaks", [{"unit": ([], ABC)}, {"tests": (["unit"], {**ABC, "c": F})}], "held", "1 test newly fails"),
        ("join", [{"x": ([], {"a": P}), "y": ([], {"b": P})}, {"all": (["x", "y"], {"a": P, "b": P})}], "clear", ""),
        ("join-same", [{"x": ([], ABC), "y": ([], ABC)}, {"all": (["x", "y"], ABC)}], "clear", ""),
        (
            "join-forgets",
            [{"x": ([], {"a": P}), "y": ([], {"b": P, "c": P})}, {"all": (["x", "y"], {"a": P, "b": P})}],
            "held",
            "1 test vanished",
        ),
        ("split", [{"all": ([], ABC)}, {"x": (["all"], {"a": P}), "y": (["all"], {"b": P, "c": P})}], "clear", ""),
        (
            "split-forgets",
            [{"all": ([], ABC)}, {"x": (["all"], {"a": P}), "y": (["all"], {"b": P})}],
            "held",
            "1 test vanished",
        ),
        (
            "moves",
            [{"x": ([], ABC), "y": ([], {"z": P})}, {"x": ([], {"a": P, "b": P}), "y": ([], {"z": P, "c": P})}],
            "clear",
            "",
        ),
        (  # the other job had it all along: it is missed here
            "had",
            [{"x": ([], ABC), "y": ([], ABC)}, {"x": ([], {"a": P, "b": P}), "y": ([], ABC)}],
            "held",
            "1 test vanished",
        ),
        ("value", [{"x": ([], {"f[0.5]": P, "f[1]": P})}, {"x": ([], {"f[0.6]": P, "f[1]": P})}], "clear", ""),
        (
            "values",
            [{"x": ([], {"f[0.5]": P, "f[7]": P})}, {"x": ([], {"f[north]": P, "f[south]": P, "f[3]": P})}],
            "clear",
            "",
        ),
        ("value-less", [{"x": ([], {"f[0.5]": P, "f[1]": P})}, {"x": ([], {"f[1]": P})}], "held", "1 test vanished"),
        ("value-fails", [{"x": ([], {"f[0.5]": P})}, {"x": ([], {"f[0.6]": F})}], "held", "1 test newly fails"),
    ],
)
def test_a_tests_identity_follows_the_lineage_of_its_job(
    world: Stories, name: str, pushes: list[Jobs], verdict: str, words: str
) -> None:
    repo = world.repository(f"lineage-{name}", None)
    run: dict[str, Any] = {}
    for number, jobs in enumerate(pushes):
        files = plan_of(jobs, '\n[gate]\nloosened = "warn"\n')
        # every name stands in a test file all along, so that what has no result is missed
        files["tests/names"] = " ".join(["a", "b", "c", "z", "f"])
        run = repo.pushed(files, f"push {number}")
    assert run["run"]["verdict"] == verdict and words in run["run"]["sentence"], run["run"]["sentence"]
    assert verdict == "held" or "vanished" not in run["run"]["sentence"]
    on_top = repo.pushed({"README": "words"})["run"]
    assert on_top["verdict"] == verdict and words in on_top["sentence"], on_top["sentence"]


@pytest.mark.parametrize(
    ("name", "before", "after", "gone"),
    [
        ("file", {"tests/test_c.py": "def c(): 1"}, {"tests/test_c.py": None}, True),
        ("stands", {"tests/test_c.py": "def c(): 1"}, {"tests/test_c.py": "# c\ndef c(): 2"}, False),
        ("changelog", {"tests/test_c.py": "def c(): 1"}, {"tests/test_c.py": None, "CHANGELOG.md": "c is gone"}, True),
        ("docs", {"tests/test_c.py": "def c(): 1", "docs/c.md": "c"}, {"tests/test_c.py": None}, True),
        ("product", {"tests/test_c.py": "def c(): 1", "src/tide.py": "def c(): 3"}, {"tests/test_c.py": None}, True),
        ("other", {"tests/test_c.py": "def c(): 1"}, {"tests/test_c.py": None, "tests/test_d.py": "def c(): 1"}, False),
    ],
)
def test_only_test_files_say_that_a_tests_source_still_stands(
    world: Stories, name: str, before: dict[str, str | None], after: dict[str, str | None], gone: bool
) -> None:
    repo = world.repository(f"source-{name}", None)
    repo.pushed({**plan_of({"unit": ([], ABC)}), **before})
    run = repo.pushed({"unit.sh": writes(junit(a=P, b=P)), **after})["run"]
    assert run["verdict"] == ("clear" if gone else "held"), run["sentence"]
    assert ("1 test removed" if gone else "1 test vanished") in run["sentence"]


def test_what_is_sent_under_a_jobs_new_name_hides_no_result_of_its_former_one(world: Stories, tmp_path: Path) -> None:
    """Nor does it stand for a job of the plan: it is evidence."""
    repo = world.repository("sent-names", PLAN, **{"test.sh": writes(junit(a="passed"))})
    before = repo.git("rev-parse", "HEAD").strip()
    (tmp_path / "x.xml").write_text(junit(a="passed"))
    for job in ("tests", "unit"):
        done = world.command("send", "sent-names", "x.xml", "--job", job, "--commit", before, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
    renamed = PLAN.replace("[jobs.unit]", '[jobs.tests]\nformerly = ["unit"]').replace("jobs.unit.", "jobs.tests.")
    red = writes(junit(a="expected 1, got 2"), status=1)
    run = repo.pushed({"myriant.toml": renamed, "test.sh": red})
    assert run["run"]["verdict"] == "held" and "1 test newly fails" in run["run"]["sentence"], run["run"]["sentence"]
    assert run["baseline"]["commit"] == before and repo.findings(run)["findings"][0]["mark"] == "new"
    held = run["run"]["commit"]
    for job in ("tests", "unit"):  # green from elsewhere clears nothing, here or behind
        assert (
            world.command("send", "sent-names", "x.xml", "--job", job, "--commit", held, cwd=tmp_path).returncode == 0
        )
    assert world.word(held, "sent-names")["verdict"] == "held"  # type: ignore[index]
    assert repo.pushed({"docs": "words"})["run"]["verdict"] == "held"
