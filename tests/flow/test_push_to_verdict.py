"""From a push to a verdict, with the real server, worker, runner, git and PostgreSQL."""

from __future__ import annotations

import socket
import subprocess
import time

import pytest
from sqlalchemy import delete, update

from conftest import PLAN, Repository, World, junit, writes
from myriant.store.tables import Project

GREEN = writes(junit(a="passed", b="passed"))
RED = writes(junit(a="passed", b="expected 1, got 2"), status=1)
ONLY_51 = f'case "$(lua -v 2>&1)" in *5.1*) {RED.replace(chr(10), chr(10))} ;; esac\n'


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


def test_the_waiting_command_exits_with_the_verdict(world: World) -> None:
    repo = world.repository("exits", test__sh=GREEN)
    good = repo.git("rev-parse", "HEAD").strip()
    bad = repo.commit({"test.sh": RED}, "break")
    repo.push()
    assert world.command("verdict", "HEAD", "--wait", cwd=repo.tree).returncode == 1
    assert world.command("verdict", good).returncode == 0
    slow = repo.commit({"test.sh": "sleep 30\n"}, "slow")
    repo.push()
    repo.run_of(slow, until="there")
    assert world.command("verdict", slow, "--wait", "--within", "0.5").returncode == 3
    assert world.command("verdict", "0" * 40).returncode == 4
    assert world.command("verdict", "--nonsense").returncode == 2
    said = world.command("verdict", bad).stdout
    assert (
        said.startswith("exits #2 (push main): held. Held: 1 test newly fails")
        and f"{world.address}/p/exits/runs/2" in said
    )


@pytest.mark.parametrize(
    ("name", "script", "state", "reason"),
    [
        ("missing", "echo nothing\n", "void", "no file matches out/unit.xml"),
        ("empty", "mkdir out; : > out/unit.xml\n", "void", "the file is empty"),
        ("truncated", writes(junit(a="passed"))[:-60] + "\nEND\n", "void", "cut off"),
        ("not-xml", writes("4 passed"), "void", "not XML"),
        ("no-test", writes("<testsuites/>"), "void", "holds no test"),
        ("bomb", writes('<!DOCTYPE x [<!ENTITY a "b">]><testsuite><testcase name="&a;"/></testsuite>'), "void", "entities"),
        ("crash", writes(junit(a="passed")) .replace("exit 0", "kill -SEGV $$"), "void", "crashed by SIGSEGV"),
        ("unexplained", writes(junit(a="passed"), status=3), "failed", "no test says why"),
        ("link", "mkdir out; ln -s /etc/passwd out/unit.xml\n", "void", "no file matches"),
        ("timeout", "sleep 60\n", "void", "the job's time of 2 s is over"),
        ("committed", "true\n", "void", "was there before the step began"),
    ],
)  # fmt: skip
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


def test_a_step_cannot_reach_the_machine_or_leave_anything_behind(world: World) -> None:
    script = """
set +e
echo "secret: $MYRIANT_RUNNER_TOKEN$MYRIANT_DATABASE_URL"; id -u; ls -A /root /var /home 2>&1; cat /etc/shadow 2>&1
(sleep 7213 &) ; env | sort; pwd; git log --format=%s; ls /tmp; touch /tmp/mine
""" + writes(junit(a="passed"))
    repo = world.repository("walls", PLAN.replace('["5.1", "5.4"]', '["5.4"]'))
    run = repo.pushed({"test.sh": script}, "look around")
    [cell] = run["cells"]
    log = world.http.get(f"/attempts/{cell['attempt_id']}/log").text
    assert cell["state"] == "passed", log
    assert "secret: \n6100" in log and "/etc/shadow: No such file" in log
    assert "look around" in log and "first" not in log.split("look around")[1][:20]
    for line in (
        "CI=true",
        "MYRIANT=1",
        "MYRIANT_CELL_LUA=5.4",
        f"MYRIANT_COMMIT={run['run']['commit']}",
        "/workspace",
    ):
        assert line in log.splitlines(), line
    assert "TOKEN" not in log.replace("secret:", "")
    assert subprocess.run(["pgrep", "-f", "^sleep 7213"], capture_output=True).returncode == 1
    assert not (world.installation.place.work / f"attempt-{cell['attempt_id']}").exists()


def test_a_gigabyte_of_output_is_cut_and_said(world: World) -> None:
    repo = world.repository("loud", PLAN.replace('["5.1", "5.4"]', '["5.4"]'))
    run = repo.pushed({"test.sh": "head -c 1000000000 /dev/zero | tr '\\0' 'x'\n" + GREEN}, within=90)
    [cell] = run["cells"]
    attempt = world.get(f"/attempts/{cell['attempt_id']}")
    tail = world.http.get(f"/attempts/{cell['attempt_id']}/log", params={"start": attempt["log_size"] - 200}).text
    assert run["run"]["verdict"] == "clear" and attempt["log_size"] < 2_100_000
    assert len(world.http.get(f"/attempts/{cell['attempt_id']}/log/raw").content) == attempt["log_size"]
    assert "998,000,000 more bytes of output were not kept" in tail


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
)  # fmt: skip
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


def test_what_is_there_when_a_repository_is_added_runs_nothing(world: World) -> None:
    first = world.repository("before", None)
    first.commit({"myriant.toml": PLAN, "test.sh": GREEN})
    first.push()
    first.push("side")
    origin = world.folder / "added-later.git"
    subprocess.run(["git", "clone", "--quiet", "--bare", str(first.origin), str(origin)], check=True)
    answer = world.http.post("/projects", json={"address": str(origin), "name": "added-later"}).json()
    assert answer["hooked"] and answer["branches"] == 2
    first.git("remote", "set-url", "origin", str(origin))
    repo = Repository(world, "added-later", origin, first.tree)
    view = repo.pushed({"x": "1"}, "The first that is heard")
    assert view["run"]["number"] == 1, "neither its branches nor the trial of its hook started anything"


def test_an_existing_hook_is_kept_and_runs_first(world: World) -> None:
    origin = world.folder / "hooked.git"
    subprocess.run(["git", "init", "--quiet", "--bare", str(origin)], check=True)
    hook = origin / "hooks/post-receive"
    hook.write_text("#!/bin/sh\necho the old hook saw $(wc -l) line\n")
    hook.chmod(0o755)
    answer = world.http.post("/projects", json={"address": str(origin), "name": "hooked"}).json()
    assert answer["hooked"] and answer["chained"]
    tree = world.folder / "hooked tree"
    subprocess.run(["git", "clone", "--quiet", str(origin), str(tree)], check=True, capture_output=True)
    repo = Repository(world, "hooked", origin, tree)
    repo.git("config", "user.name", "Ada Fen")
    repo.git("config", "user.email", "ada@fenmark.example")
    repo.commit({"myriant.toml": PLAN, "test.sh": GREEN})
    said = repo.push()
    assert "the old hook saw 1 line" in said and "myriant: run #1 http" in said


def test_a_push_while_the_hook_cannot_reach_the_server_is_found_by_looking_whatever_another_repository_does(
    world: World,
) -> None:
    repo = world.repository("missed", test__sh=GREEN)
    hook = repo.origin / "hooks/myriant-bells"
    text = hook.read_text()
    hook.write_text(text.replace(f" {world.installation.port} ", " 9 "))
    commit = repo.commit({"x": "1"})
    assert "cannot be reached now" in repo.push()
    hook.write_text(text)
    site = world.installation.site
    assert site is not None
    with socket.create_server(("127.0.0.1", 0)) as silent:
        address = f"http://127.0.0.1:{silent.getsockname()[1]}/never-answers.git"
        with site.store.transaction() as session:
            session.add(Project(name="never-answers", address=address, main_branch="main"))
            session.execute(update(Project).where(Project.name == "missed").values(looked_at=None))  # it is due
        assert repo.run_of(commit, within=30)["run"]["verdict"] == "clear"
    with site.store.transaction() as session:
        session.execute(delete(Project).where(Project.name == "never-answers"))


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


def test_every_door_asks_who_is_there(world: World) -> None:
    import httpx

    bare = httpx.Client(base_url=f"{world.address}/api/v1")
    for method, path in [
        ("GET", "/projects"), ("GET", "/live"), ("POST", "/projects"), ("POST", "/projects/story/bell"), ("POST", "/runners"),
        ("POST", "/runners/1/claim"), ("POST", "/sign-in-links"), ("GET", "/words/0"),
    ]:  # fmt: skip
        body = {
            "address": "x",
            "moved": [],
            "free": 1,
            "protocol": 1,
            "name": "n",
            "slots": 1,
            "runtimes": [],
            "isolation": "",
            "version": "",
            "boot": "",
        }
        answer = bare.request(method, path, json=body if method == "POST" else None)
        assert answer.status_code == 401, (path, answer.text)
        assert answer.headers["content-type"] == "application/problem+json"
    assert bare.post("/attempts/1/finish", json={}).json()["type"] == "/problems/lease-lost"
    assert bare.get("/attempts/1/source/info/refs", params={"service": "git-upload-pack"}).status_code == 409
    link = world.http.post("/sign-in-links", json={}).json()["link"].split("#")[1]
    assert bare.post("/sign-in", json={"token": link}).status_code == 204
    assert bare.get("/projects").status_code == 200
    assert bare.post("/sign-in", json={"token": link}).status_code == 404
    assert (
        bare.post("/projects", json={"address": "/x"}, headers={"Origin": "http://elsewhere.example"}).status_code
        == 403
    )


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
