"""From a push to a verdict, with the real server, worker, runner, git and PostgreSQL."""

from __future__ import annotations

import subprocess
import time

import pytest

from worlds import PLAN, World, junit, writes

GREEN = writes(junit(a="passed", b="passed"))
RED = writes(junit(a="passed", b="expected 1, got 2"), status=1)


def only_on_51(red: str, green: str) -> str:
    return f'if lua -v 2>&1 | grep -q "Lua 5.1"; then sh red.sh; else sh green.sh; fi\n#{len(red)}{len(green)}\n'


def test_a_break_is_held_until_it_is_repaired_and_the_note_agrees(world: World) -> None:
    repo = world.repository("story", test__sh=GREEN)
    broken = {"test.sh": only_on_51(RED, GREEN), "red.sh": RED, "green.sh": GREEN}
    held = repo.pushed(broken, "break it")
    assert held["run"]["verdict"] == "held"
    assert held["run"]["sentence"].startswith("Held: 1 test newly fails, only where lua=5.1. 2 of 2 cells in ")
    assert [c["mark"] for c in held["cells"]] == ["new", "passed"]
    assert held["cells"][0]["runtimes"]["lua"].startswith("5.1")
    [finding] = repo.findings(held)["findings"]
    assert (finding["mark"], finding["where"], finding["expected"], finding["actual"]) == ("new", "lua=5.1", "1", "2")

    still = repo.pushed({"README": "unrelated"}, "on top")
    assert still["run"]["verdict"] == "held" and still["baseline"]["number"] == held["baseline"]["number"]

    mended = repo.pushed({"test.sh": GREEN}, "mend it")
    assert mended["run"]["verdict"] == "clear" and "1 test fixed" in mended["run"]["sentence"]
    assert [c["mark"] for c in mended["cells"]] == ["fixed", "passed"]
    assert repo.findings(mended)["fixed"] == 1
    # read against the broken run instead: the reading baseline moves, the gate's does not
    assert repo.findings(still, base=held["run"]["number"])["findings"][0]["mark"] == "known"

    note = repo.note(held["run"]["commit"])
    assert note.startswith("verdict: held (push to main)")
    assert "unit lua=5.1  failed  1 passed, 1 failed" in note and "t › b: expected 1, got 2" in note
    log = subprocess.run(
        ["git", "-C", str(repo.origin), "log", "--notes=myriant", "-3"], capture_output=True, text=True
    )
    assert log.stdout.count("verdict: held") == 2 and "1 test fixed" in repo.note(mended["run"]["commit"])


@pytest.mark.parametrize(
    ("name", "script", "state", "reason"),
    [
        ("missing", "echo nothing\n", "void", "no file matches out/unit.xml"),
        ("empty", "mkdir out; : > out/unit.xml\n", "void", "the file is empty"),
        ("truncated", writes(junit(a="passed"))[:-60] + "\nEND\n", "void", "cut off"),
        ("not-xml", writes("4 passed"), "void", "not XML"),
        ("no-test", writes("<testsuites/>"), "void", "holds no test"),
        (
            "bomb",
            writes('<!DOCTYPE x [<!ENTITY a "b">]><testsuite><testcase name="&a;"/></testsuite>'),
            "void",
            "entities",
        ),
        ("crash", writes(junit(a="passed")).replace("exit 0", "kill -SEGV $$"), "void", "crashed by SIGSEGV"),
        ("unexplained", writes(junit(a="passed"), status=3), "failed", "no test says why"),
        ("link", "mkdir out; ln -s /etc/passwd out/unit.xml\n", "void", "links are not followed"),
        ("timeout", "sleep 60\n", "void", "the job's time of 2 s is over"),
        ("committed", "true\n", "void", "was there before the step began"),
    ],
)
def test_without_a_report_to_trust_a_run_is_held_and_says_why(
    world: World, name: str, script: str, state: str, reason: str
) -> None:
    plan = PLAN.replace('["5.1", "5.4"]', '["5.4"]')
    if name == "timeout":
        plan = plan.replace("[jobs.unit]", '[jobs.unit]\ntimeout = "2 s"')
    repo = world.repository(f"void-{name}")
    files = {"myriant.toml": plan, "test.sh": script}
    if name == "committed":
        files["out/unit.xml"] = junit(a="passed")
    run = repo.pushed(files)
    [cell] = run["cells"]
    assert (run["run"]["verdict"], cell["state"]) == ("held", state)
    assert reason in cell["reason"]
    assert ("step test failed" if name == "unexplained" else reason) in run["run"]["sentence"]


def test_a_cell_without_a_runtime_waits_and_says_so(world: World) -> None:
    repo = world.repository("absent", PLAN.replace('"5.1"', '"5.9"'))
    commit = repo.commit({"test.sh": GREEN})
    repo.push()
    run = repo.run_of(commit, until="there")
    end = time.monotonic() + 20
    while time.monotonic() < end and [c["state"] for c in run["cells"]] != ["waiting", "passed"]:
        run = repo.run_of(commit, until="there")
        time.sleep(0.1)
    waiting = run["cells"][0]
    assert waiting["state"] == "waiting" and run["run"]["verdict"] == "undecided"
    assert waiting["reason"].startswith("no runner offers lua 5.9; runners have lua 5.1.")


@pytest.mark.parametrize(
    ("plan", "said"),
    [
        (None, "there is no test plan at this commit"),
        ("version = 1\n[jobs.unit\n", "the plan cannot be used: 1 problem, first myriant.toml:2:11: not valid TOML"),
        (PLAN.replace("vary ", "varied"), 'unknown key "varied"'),
        (PLAN.replace('"5.4"', '"latest"'), "no version of lua"),
    ],
)
def test_a_commit_without_a_plan_to_use_is_held_with_place_and_mend(world: World, plan: str | None, said: str) -> None:
    repo = world.repository(f"planless-{abs(hash(said)) % 10**8}", None)
    run = repo.pushed({"README": "x"} if plan is None else {"myriant.toml": plan})
    assert run["run"]["verdict"] == "held" and said in run["run"]["sentence"] + str(run["problems"])
    assert "verdict: held" in repo.note(run["run"]["commit"])


def test_a_push_that_the_plan_does_not_ask_for_has_no_verdict_and_says_why(world: World) -> None:
    plan = PLAN.replace("[jobs.unit]", '[events]\npush = { branches = ["main"] }\n\n[jobs.unit]')
    repo = world.repository("exempt", plan, test__sh=GREEN)
    commit = repo.commit({"x": "y"})
    repo.push("side")
    run = repo.run_of(commit)
    assert run["run"]["verdict"] == "none" and "names main, not side" in run["run"]["sentence"]


def test_branch_names_are_never_pasted_into_commands(world: World) -> None:
    told = PLAN.replace('["5.1", "5.4"]', '["5.4"]').replace("[jobs.unit]", '[jobs.unit]\ntold = ["branch"]')
    repo = world.repository("names", told)
    name = "a'b\"c;$(touch${IFS}pwned)`x`"
    script = 'printf "branch is %s\\n" "$MYRIANT_BRANCH"; ls\n' + GREEN
    commit = repo.commit({"test.sh": script}, "a \"title\"\nwith $(touch pwned) and 'quotes'")
    repo.push(name)
    run = repo.run_of(commit)
    log = world.http.get(f"/attempts/{run['cells'][0]['attempt_id']}/log").text
    assert f"branch is {name}" in log and "\npwned" not in log
    assert run["run"]["branch"] == name and run["run"]["verdict"] == "clear"
    assert world.get("/projects/names/strip", branch=name)["columns"][0]["run"]["commit"] == commit


@pytest.mark.parametrize(
    ("address", "said"),
    [
        ("/nowhere", "cannot be read as a git repository"),
        ("-oProxyCommand=x", "cannot begin with a hyphen"),
        ("ext::sh -c id", "not allowed"),
    ],
)
def test_a_repository_that_cannot_be_read_is_refused_with_the_reason(world: World, address: str, said: str) -> None:
    answer = world.http.post("/projects", json={"address": address, "name": "bad"})
    assert answer.status_code == 422 and said in answer.json()["detail"] and answer.json()["mend"]


def test_commits_of_a_new_branch_say_with_which_they_were_pushed(world: World) -> None:
    green = writes(junit(a="passed"))
    repo = world.repository("new-branch", PLAN, test__sh=green)
    repo.git("checkout", "--quiet", "-b", "topic")
    first, second = repo.commit({"a": "1"}), repo.commit({"a": "2"})
    repo.push("topic")
    repo.run_of(second)
    told = world.word(first, repo.name)
    assert told is not None and told["verdict"] == "none"
    assert f"it was pushed together with {second[:7]}" in told["sentence"]
    head = repo.git("rev-parse", "main").strip()
    assert "pushed together" not in str(world.word(head, repo.name))
