"""What an attempt is given and what becomes of it: companions, caches, secrets, retests, limits, settings, reruns."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any

import pytest
from sqlalchemy import Connection, select, text
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from myriant.flow.actions.stopping import stop_run
from myriant.flow.admin.projects import forget_project
from myriant.flow.planning.reading import plan_run
from myriant.flow.who import Person
from myriant.store.engine import Store
from myriant.store.tables import Attempt, Cell, Project, Run
from worlds import PLAN, Repository, World, junit, stored_project, writes

PERL = "/usr/bin/perl -MIO::Socket::INET -e"
SERVE = (
    f'exec {PERL} \'$| = 1; $s = IO::Socket::INET->new(Listen => 5, LocalAddr => "127.0.0.1", '
    'LocalPort => $ENV{MYRIANT_TIDE_PORT}, ReuseAddr => 1) or die "no port"; print "listening\\n"; '
    'while ($c = $s->accept) { print $c "HTTP/1.0 200 OK\\r\\n\\r\\nhigh water\\n"; close $c }\''
)
ASK = (
    f'{PERL} \'$s = IO::Socket::INET->new("127.0.0.1:$ENV{{MYRIANT_TIDE_PORT}}") or die "refused"; '
    "print <$s>' > answer.txt; grep -q 'high water' answer.txt"
)
KNOCK = "exit !IO::Socket::INET->new(qq(127.0.0.1:$ENV{MYRIANT_TIDE_PORT}))"
JOB = "version = 1\n[jobs.unit]\n"


def plan(step: str, more: str = "", collect: bool = True) -> str:
    wish = 'collect = { tests = ["out/unit.xml"] }\n' if collect else ""
    return f"{JOB}{more}\n[[jobs.unit.steps]]\nname = \"test\"\ncommand = '''{step}'''\n{wish}"


def attempt(world: World, run: dict[str, Any], cell: int = 0) -> dict[str, Any]:
    found: dict[str, Any] = world.get(f"/attempts/{run['cells'][cell]['attempt_id']}")
    return found


def log_of(world: World, run: dict[str, Any], cell: int = 0) -> str:
    return world.http.get(f"/attempts/{run['cells'][cell]['attempt_id']}/log").text


def companion(command: str, ready: str, port: bool = True) -> str:
    told = "port = 7071\n" if port else ""
    return f"[jobs.unit.companions.tide]\ncommand = '''{command}'''\n{told}ready = {ready}\n"


GREEN = "mkdir -p out; cat > out/unit.xml <<'END'\n" + junit(a="passed") + "\nEND"
COMPANIONS = [
    ("tcp", companion(SERVE, '{ tcp = true, within = "10 s" }'), "clear", ""),
    ("http", companion(SERVE, '{ http = "/level", within = "10 s" }'), "clear", ""),
    ("line", companion(SERVE, '{ line = "^listen", within = "10 s" }'), "clear", ""),
    (
        "command",
        companion(SERVE, f"{{ command = ['/usr/bin/perl', '-MIO::Socket::INET', '-e', '{KNOCK}'], within = '10 s' }}"),
        "clear",
        "",
    ),
    ("own", "network = false\n" + companion(SERVE, '{ tcp = true, within = "10 s" }'), "clear", ""),
    (
        "unstarted",
        companion("echo no such tide; exit 3", '{ tcp = true, within = "10 s" }'),
        "held",
        "companion tide did not start: it ended with exit status 3; it said last: no such tide",
    ),
    (
        "unready",
        companion("echo rising; sleep 60", '{ tcp = true, within = "1 s" }'),
        "held",
        "companion tide was not ready in 1 s; it said last: rising",
    ),
    (
        "dying",
        companion("echo up; sleep 1; echo ebb; exit 9", '{ line = "up" }', port=False),
        "held",
        "companion tide died during the tests: it ended with exit status 9; it said last: up | ebb",
    ),
]


@pytest.mark.parametrize(("name", "more", "verdict", "said"), COMPANIONS, ids=[c[0] for c in COMPANIONS])
def test_a_companion_stands_beside_the_steps_or_says_why_not(
    world: World, name: str, more: str, verdict: str, said: str
) -> None:
    ask = "sleep 2;" if name == "dying" else f"{ASK};"
    repo = world.repository(f"companion-{name}", None)
    run = repo.pushed({"myriant.toml": plan(f"{ask}{GREEN}", more)})
    assert run["run"]["verdict"] == verdict, (run["run"]["sentence"], log_of(world, run))
    assert said in run["run"]["sentence"] or said in run["cells"][0]["reason"]
    found = attempt(world, run)
    own = [r for r in found["reports"] if r["content"] == "companion"]
    assert [r["kind"] for r in own] == ["tide"]
    if name == "own":
        environment = world.get(f"/attempts/{found['id']}/record")["settings"]
        assert next(s for s in environment if s["name"] == "MYRIANT_TIDE_PORT")["value"] == "7071"


FLAKY_STEP = """\
mkdir -p out
n=$(cat /tmp/tries 2>/dev/null || echo 0); echo $((n + 1)) > /tmp/tries
if [ "$n" -lt {fails} ]; then cp red.xml out/unit.xml; exit 1; fi
cp green.xml out/unit.xml
"""
BOTH = {"red.xml": junit(a="passed", b="expected 1, got 2"), "green.xml": junit(a="passed", b="passed")}


@pytest.mark.parametrize(
    ("fails", "verdict", "flaky", "said"),
    [(1, "clear", 1, "1 flaky test passed after 1 retest"), (3, "held", 0, "1 test newly fails")],
)
def test_failed_tests_are_run_again_within_the_attempt(
    world: World, fails: int, verdict: str, flaky: int, said: str
) -> None:
    repo = world.repository(f"retest-{fails}", None)
    green = plan(GREEN.replace("a=", "a="), "retry = { tests = 2 }\n")
    repo.pushed({"myriant.toml": green, **BOTH})
    run = repo.pushed({"myriant.toml": plan(FLAKY_STEP.format(fails=fails), "retry = { tests = 2 }\n")})
    assert run["run"]["verdict"] == verdict and said in run["run"]["sentence"], run["run"]["sentence"]
    assert run["cells"][0]["flaky"] == flaky and run["cells"][0]["new"] == 1 - flaky
    marks = {f["title"]: f["mark"] for f in repo.findings(run)["findings"]}
    assert marks == {"t › b": "flaky" if flaky else "new"}


def test_only_failed_tests_are_listed_for_a_retest(world: World) -> None:
    retest = "cp $MYRIANT_RETEST asked.txt; cat asked.txt; cp green.xml out/retest.xml"
    text = (
        plan("mkdir -p out; cp red.xml out/unit.xml; exit 1", "retry = { tests = 1 }\n")
        + f"retest = {{ command = '''{retest}''', each = \"{{class}}::{{name}}\" }}\n"
    )
    repo = world.repository("retest-list", None)
    run = repo.pushed({"myriant.toml": text, **BOTH})
    assert run["run"]["verdict"] == "clear", (run["run"]["sentence"], log_of(world, run))
    assert "t::b\n" in log_of(world, run) and "t::a" not in log_of(world, run)
    assert [r["path"] for r in attempt(world, run)["reports"] if r["content"] == "retest"] == ["out/retest.xml"]


CACHING = plan(
    "mkdir -p out; cp green.xml out/unit.xml; test -e kept/tide && test -L kept/link",
    'cache = [{ name = "tides", keep = ["kept"], renew-on = ["lock.txt"] }]\n'
    '[[jobs.unit.steps]]\nname = "install"\n'
    "command = '''test -e kept/tide || { sleep 3; mkdir -p kept; date > kept/tide; ln -s /usr/bin/env kept/link; }'''\n",
)


def caches(world: World, run: dict[str, Any]) -> dict[str, Any]:
    [told] = world.get(f"/attempts/{run['cells'][0]['attempt_id']}/record")["caches"]
    return dict(told)


def test_a_cache_is_found_by_what_it_depends_on_and_says_what_it_won(world: World) -> None:
    repo = world.repository("caching", None)
    first = repo.pushed({"myriant.toml": CACHING, "lock.txt": "one", **BOTH})
    assert first["run"]["verdict"] == "clear", log_of(world, first)
    assert not caches(world, first)["found"] and "nothing was saved yet" in caches(world, first)["said"]
    assert caches(world, first)["saved"] > 0
    second = repo.pushed({"other.txt": "x"})
    told = caches(world, second)
    assert told["found"] and "saved by #1 on branch main" in told["said"]
    assert told["won"] + told["seconds"] > 0, told  # the step slept when it was saved, and did not now
    third = repo.pushed({"lock.txt": "two"})
    assert caches(world, third)["said"] == "lock.txt changed since it was saved"
    held = repo.pushed({"lock.txt": "three", "green.xml": BOTH["red.xml"]})
    assert held["run"]["verdict"] == "held"
    again = repo.pushed({"green.xml": BOTH["green.xml"]})
    assert not caches(world, again)["found"], "what a failing attempt saved is not kept"
    assert {c["scope"] for c in world.get("/projects/caching/caches")} == {"branch main"}


def test_what_a_branch_or_a_pull_request_saves_never_reaches_the_main_line(world: World) -> None:
    repo = world.repository("poison", None)
    repo.pushed({"myriant.toml": CACHING, "lock.txt": "one", **BOTH})
    repo.git("checkout", "--quiet", "-b", "stranger")
    commit = repo.commit({"lock.txt": "two"})
    repo.push("stranger")
    assert not caches(world, repo.run_of(commit))["found"]
    world.command("project", "pull-request", "poison", "7", "--from", "stranger")
    repo.git("checkout", "--quiet", "main")
    merged = repo.pushed({"lock.txt": "two"})
    assert caches(world, merged)["said"] == "lock.txt changed since it was saved"
    saved = {c["scope"] for c in world.get("/projects/poison/caches")}
    assert {"branch main", "branch stranger"} <= saved


def test_caches_least_used_go_first_and_a_damaged_one_is_a_miss(world: World) -> None:
    keep = plan(
        "mkdir -p out; cp green.xml out/unit.xml",
        'cache = [{ name = "big", keep = ["kept"], renew-on = ["lock.txt"] }]\n'
        '[[jobs.unit.steps]]\nname = "install"\ncommand = "mkdir -p kept; test -e kept/a || head -c 25000 /dev/urandom > kept/a"\n',
    )
    repo = world.repository("evicted", None)
    for lock in ("one", "two", "one", "three"):  # "one" is used again, "two" is not
        repo.pushed({"myriant.toml": keep, "lock.txt": lock, "n": lock + str(time.time()), **BOTH})
    assert caches(world, repo.pushed({"lock.txt": "one", "n": "again"}))["found"]
    assert not caches(world, repo.pushed({"lock.txt": "two", "n": "again 2"}))["found"]
    entry = world.get("/projects/evicted/caches")[0]
    for blob in (world.installation.place.blobs / "caches").glob("*/*"):
        if blob.stat().st_size == entry["size"]:
            blob.write_bytes(blob.read_bytes()[:-100])
    after = caches(world, repo.pushed({"n": "again 3"}))
    assert not after["found"] and "what was kept is damaged" in after["said"]


def test_submodules_come_along_when_asked_for(world: World) -> None:
    other = world.repository("the-other", PLAN, test__sh="exit 0", tide__txt="high water")
    repo = world.repository("with-submodule", None)
    repo.git("-c", "protocol.file.allow=always", "submodule", "add", str(other.origin), "sub/of it")
    # the job is not told the commit: its git has one made-up commit, of which the submodule is an unchanged part
    look = (
        "grep high 'sub/of it/tide.txt'; test -z \"$(git status --porcelain)\"; test $(git rev-list --count HEAD) = 1\n"
        "test $(git -C 'sub/of it' rev-parse HEAD) = $(git rev-parse 'HEAD:sub/of it')\n"
    )
    text = plan("set -e; . ./look.sh; mkdir -p out; cp green.xml out/unit.xml", "source = { submodules = true }\n")
    run = repo.pushed({"myriant.toml": text, "look.sh": look, **BOTH})
    assert run["run"]["verdict"] == "clear", (run["run"]["sentence"], log_of(world, run))
    without = repo.pushed(
        {"myriant.toml": plan("test ! -e 'sub/of it/tide.txt'; mkdir -p out; cp green.xml out/unit.xml")}
    )
    assert without["run"]["verdict"] == "clear"


def set_secret(world: World, repo: Repository, name: str, value: str, **more: Any) -> None:
    answer = world.http.put(f"/projects/{repo.name}/secrets/{name}", json={"value": value, **more})
    assert answer.status_code == 204, answer.text


def test_a_secret_is_asked_for_before_the_run_and_limited(world: World) -> None:
    repo = world.repository("secretive", None)
    text = plan(f'test "$TIDE_KEY" = "s3cret-tide"; {GREEN}', 'secrets = ["TIDE_KEY"]\n')
    lacking = repo.pushed({"myriant.toml": text})
    assert "the project has no secret TIDE_KEY" in lacking["run"]["sentence"]
    assert lacking["cells"][0]["attempt_id"] is None, "nothing ran"
    set_secret(world, repo, "TIDE_KEY", "s3cret-tide", branches=["main"])
    assert repo.pushed({"a": "1"})["run"]["verdict"] == "clear"
    [known] = world.get("/projects/secretive/secrets")
    assert known["used_by"] == "#2 unit" and known["used_at"] and "s3cret" not in str(known)
    set_secret(world, repo, "TIDE_KEY", "s3cret-tide", jobs=["other"])
    assert "not for job unit" in repo.pushed({"a": "2"})["run"]["sentence"]
    short = world.http.put("/projects/secretive/secrets/TIDE_KEY", json={"value": "abc"})
    assert short.status_code == 422 and "at least 6 characters" in short.json()["detail"]


def test_a_pull_request_gets_no_secret_that_its_target_does_not_grant(world: World) -> None:
    asks = plan(f'test "$TIDE_KEY" = "s3cret-tide"; {GREEN}', 'secrets = ["TIDE_KEY"]\n')
    repo = world.repository("granting", None)
    set_secret(world, repo, "TIDE_KEY", "s3cret-tide", events=["push", "pull-request"])
    repo.pushed({"README": "no plan here yet"})
    repo.git("checkout", "--quiet", "-b", "greedy")
    repo.commit({"myriant.toml": asks})
    repo.push("greedy")
    said = "the plan on main gives job unit no secret TIDE_KEY"
    for plan_on_main, verdict in ((None, "held"), (plan(GREEN), "held"), (asks, "clear")):
        if plan_on_main is not None:
            repo.git("checkout", "--quiet", "main")
            repo.pushed({"myriant.toml": plan_on_main})
            repo.git("checkout", "--quiet", "greedy")
            repo.git("merge", "--quiet", "-X", "ours", "-m", "merge", "main")
            repo.commit({"myriant.toml": asks, "n": verdict + plan_on_main[:40]})
            repo.push("greedy")
        told = world.command("project", "pull-request", repo.name, "3", "--from", "greedy", "--title", "again")
        assert told.returncode == 0, told.stderr
        end = time.monotonic() + 40
        while time.monotonic() < end:
            strip = world.get(f"/projects/{repo.name}/strip", branch="pull request 3")["columns"]
            if strip and strip[-1]["run"]["ended_at"]:
                break
            time.sleep(0.1)
        sentence = strip[-1]["run"]["sentence"]
        assert strip[-1]["run"]["verdict"] == verdict and ((said in sentence) is (verdict == "held")), sentence


def test_running_all_again_keeps_the_order_and_releases_nothing_twice(world: World) -> None:
    step = '[[jobs.{0}.steps]]\nname = "test"\ncommand = "mkdir -p out; date +%s%N > out/when; cp green.xml out/unit.xml"\ncollect = {{ tests = ["out/unit.xml"] }}\n'
    text = (
        "version = 1\n[jobs.first]\n"
        + step.format("first")
        + '[jobs.then]\nafter = ["first"]\n'
        + step.format("then")
        + "[jobs.release]\ngated = true\n"
        + step.format("release")
    )
    repo = world.repository("in-order", None)
    repo.pushed({"myriant.toml": text, **BOTH})

    def settled(attempts: list[int]) -> dict[str, Any]:
        end = time.monotonic() + 30
        while time.monotonic() < end:
            run = world.get("/projects/in-order/runs/1")
            if not run["open"] and run["run"]["ended_at"] and [c["attempt"] for c in run["cells"]] == attempts:
                return dict(run)
            time.sleep(0.1)
        raise AssertionError([(c["job"], c["attempt"], c["state"], c["reason"]) for c in run["cells"]])

    settled([1, 1, 1])
    assert world.http.post("/projects/in-order/runs/1/again", json={"which": "all"}).json() == {"cells": 2}
    run = settled([2, 2, 1])
    rows = {r["job"]: r for r in world.get("/projects/in-order/runs/1/timeline")["rows"]}
    begins = {job: max(b["started_at"] for b in rows[job]["bars"] if b["kind"] == "step") for job in ("first", "then")}
    ends = max(b["ended_at"] for b in rows["first"]["bars"] if b["kind"] == "step")
    assert begins["first"] < ends <= begins["then"] and run["run"]["verdict"] == "clear"
    chosen = world.http.post("/projects/in-order/runs/1/again", json={"which": "chosen", "cells": "job=release"})
    assert chosen.json() == {"cells": 1}
    assert settled([2, 2, 2])["run"]["verdict"] == "clear"


# a step that gave no result that can be trusted has failed: what follows it is not run
THEN = "sleep 20'''\ntimeout = '2 s'\n[[jobs.unit.steps]]\nname = 'after'\ncommand = '''echo went on"
LIMITS = [
    (
        "memory",
        'limits = { memory = "60 MiB" }',
        "perl -e '$x = \"x\" x (90 << 20); sleep 20'",
        "more than 60 MiB of memory",
    ),
    (
        "disk",
        'limits = { disk = "20 MiB" }',
        "for i in 1 2 3 4 5; do head -c 9000000 /dev/zero > big$i; done; sleep 20",
        "its files took more than 20 MiB",
    ),
    ("output", 'limits = { output = "1 MiB" }', "yes | head -c 30000000; sleep 20", "it printed more than 1 MiB"),
    ("processes", "limits = { processes = 20 }", "f() { f | f & }; f & sleep 3", "Held"),
    ("endless", 'timeout = "2 s"', "yes | tr -d '\\n'", "time of 2 s is over"),
    ("of-a-step", "", THEN, "time of 2 s is over"),
]


@pytest.mark.parametrize(("name", "limit", "command", "said"), LIMITS, ids=[row[0] for row in LIMITS])
def test_an_attempt_that_takes_too_much_is_ended_and_void(
    world: World, name: str, limit: str, command: str, said: str
) -> None:
    repo = world.repository(f"limit-{name}", None)
    run = repo.pushed({"myriant.toml": plan(command, limit), **BOTH})
    assert said in run["run"]["sentence"], (run["run"]["sentence"], run["cells"][0])
    assert run["run"]["verdict"] == "held" and "went on" not in log_of(world, run)


def test_each_setting_tells_its_value_its_origin_and_what_else_sets_it(world: World) -> None:
    text = plan(
        GREEN,
        '[jobs.unit.env]\nTIDE_MODE = "job"\n',
    ).replace("version = 1\n", 'version = 1\n[defaults]\nenv = { TIDE_MODE = "default", HARBOUR = "fen" }\n', 1)
    text += 'env = { TIDE_MODE = "step" }\n'
    repo = world.repository("settings-traced", None)
    files = {
        ".env": "TIDE_MODE=dotenv\n",
        "conf/a.yaml": "harbour: 1\nHARBOUR: fen\n",
        "b.json": '{\n "TIDE_MODE": "json"\n}\n',
        "c.properties": "# TIDE_MODE=no\nTIDE_MODE = properties\n",
        "d.xml": "<a><TIDE_MODE>xml</TIDE_MODE></a>\n",
    }
    run = repo.pushed({"myriant.toml": text, **files})
    assert run["run"]["verdict"] == "clear", log_of(world, run)
    rows = world.get(f"/attempts/{run['cells'][0]['attempt_id']}/record")["settings"]
    whole, step = [s for s in rows if s["name"] == "TIDE_MODE"]
    assert (whole["value"], whole["origin"]) == ("job", "job unit, myriant.toml:6")
    assert whole["overrode"] == [{"origin": "the plan's defaults, myriant.toml:3", "value": "default"}]
    assert (step["value"], step["step"]) == ("step", "test")
    assert {(f["file"], f["line"], f["value"]) for f in whole["files"]} == {
        (".env", 1, "dotenv"),
        ("b.json", 2, "json"),
        ("c.properties", 2, "properties"),
        ("d.xml", 1, "xml"),
    }
    assert ".env:1 sets TIDE_MODE to 'dotenv'; in force is 'job'" in log_of(world, run)
    harbour = next(s for s in rows if s["name"] == "HARBOUR")
    assert [(f["file"], f["differs"]) for f in harbour["files"]] == [("conf/a.yaml", False)]


def test_what_an_attempt_was_made_of_is_recorded_and_compared(world: World) -> None:
    repo = world.repository("recorded", None)
    text = plan(
        f"mkdir -p node_modules/tide && cp p.json node_modules/tide/package.json; {GREEN}",
        'describe = ["perl -v | head -2", "cat level"]\n',
    )
    first = repo.pushed({"myriant.toml": text, "level": "low", "p.json": '{"name": "tide", "version": "1.0.0"}'})
    machine = world.get(f"/attempts/{first['cells'][0]['attempt_id']}/record")["machine"]
    assert machine["tools"]["cat level"] == "low" and "perl" in machine["tools"]["perl -v | head -2"]
    assert machine["packages"] == {"node tide": "1.0.0"} and machine["machine"]["architecture"]
    second = repo.pushed({"level": "high", "p.json": '{"name": "tide", "version": "1.1.0"}'})
    told = world.get(f"/attempts/{second['cells'][0]['attempt_id']}/machine-difference")
    assert [(d["name"], d["there"], d["here"]) for d in told["differing"]] == [
        ("cat level", "low", "high"),
        ("node tide", "1.0.0", "1.1.0"),
    ]
    assert "recorded #1" in told["said"] and told["same"] > 4


def test_running_again_makes_the_next_attempt_and_counts_once(world: World) -> None:
    repo = world.repository("again", None)
    repo.pushed({"myriant.toml": plan(GREEN), **BOTH})
    chance = 'mkdir -p out; if [ "$MYRIANT_ATTEMPT" = 1 ]; then cp red.xml out/unit.xml; exit 1; fi; cp green.xml out/unit.xml'
    held = repo.pushed({"myriant.toml": plan(chance)})
    number = held["run"]["number"]
    assert held["run"]["verdict"] == "held"
    answer = world.http.post(f"/projects/again/runs/{number}/again", json={"which": "not-passed"})
    assert answer.json() == {"cells": 1}
    end = time.monotonic() + 30
    while (run := world.get(f"/projects/again/runs/{number}"))["run"]["verdict"] != "clear" and time.monotonic() < end:
        time.sleep(0.1)
    assert "1 flaky test passed after 1 rerun" in run["run"]["sentence"], run["run"]["sentence"]
    assert run["cells"][0]["attempt"] == 2 and run["cells"][0]["mark"] == "flaky"
    assert len(attempt(world, run)["earlier"]) == 1
    [flaky] = repo.findings(run)["findings"]
    assert flaky["mark"] == "flaky" and flaky["message"] == "expected 1, got 2"
    nothing = world.http.post(f"/projects/again/runs/{number}/again", json={"which": "not-passed"})
    assert nothing.status_code == 422


RED = "mkdir -p out; cp red.xml out/unit.xml; exit 1"
ONCE = (
    'mkdir -p out; if [ "$MYRIANT_ATTEMPT" = 1 ]; then cp red.xml out/unit.xml; exit 1; fi; cp green.xml out/unit.xml'
)
TIDE = "mkdir -p out; cp green.xml out/unit.xml; ! grep -q low {level} || cp red.xml out/unit.xml"


@pytest.mark.parametrize(
    ("answer", "before", "now"),
    [("change", "mkdir -p out; cp green.xml out/unit.xml", RED), ("world", TIDE, TIDE), ("chance", GREEN, ONCE)],
)
def test_a_control_run_tells_change_world_and_chance_apart(world: World, answer: str, before: str, now: str) -> None:
    level = Path(f"/usr/share/myriant-tide-{world.installation.port}")  # of the world: steps see it, no commit has it
    level.write_text("high")
    try:
        repo = world.repository(f"control-{answer}", None)
        clear = repo.pushed({"myriant.toml": plan(before.format(level=level)), **BOTH})
        assert clear["run"]["verdict"] == "clear", clear["run"]["sentence"]
        level.write_text("low")
        held = repo.pushed({"myriant.toml": plan(now.format(level=level)), "a": answer})
        assert held["run"]["verdict"] == "held", held["run"]["sentence"]
        end = time.monotonic() + 120
        while (found := repo.findings(held)["findings"][0])["control"] != answer and time.monotonic() < end:
            time.sleep(0.2)
        assert found["control"] == answer, found["repeated"]
    finally:
        level.unlink()


def test_a_run_is_held_the_moment_nothing_can_clear_it(world: World) -> None:
    repo = world.repository("early", None)
    text = (
        'version = 1\n[jobs.unit]\nvary = { tide = ["low", "high"] }\n[[jobs.unit.steps]]\nname = "test"\n'
        "command = '''mkdir -p out; if [ $MYRIANT_CELL_TIDE = low ]; then cp red.xml out/unit.xml; exit 1; fi; "
        "sleep 6; cp green.xml out/unit.xml'''\n"
        'collect = { tests = ["out/unit.xml"] }\n'
    )
    commit = repo.commit({"myriant.toml": text, **BOTH})
    repo.push()
    began = time.monotonic()
    run = repo.run_of(commit, until="early")
    assert run["run"]["verdict"] == "held" and run["open"] and time.monotonic() - began < 5
    assert "Held early: 1 test newly fails" in run["run"]["sentence"]
    end = time.monotonic() + 30
    while (run := world.get("/projects/early/runs/1"))["open"] and time.monotonic() < end:
        time.sleep(0.1)
    while (run := world.get("/projects/early/runs/1"))["run"]["ended_at"] is None and time.monotonic() < end:
        time.sleep(0.1)
    assert run["run"]["verdict"] == "held" and run["run"]["sentence"].startswith("Held: 1 test newly fails")


def test_a_script_without_execute_permission_is_explained(world: World) -> None:
    repo = world.repository("unexecutable", None)
    run = repo.pushed({"myriant.toml": plan("./tide test.sh"), "tide": writes(junit(a="passed"))})
    [step] = attempt(world, run)["steps"]
    assert step["reason"] == "./tide has no execute permission: git update-index --chmod=+x ./tide"


def test_what_is_stopped_before_its_plan_was_read_runs_nothing(world: World) -> None:
    """Somebody is quicker than the worker: the run ends when its cells are made, and says who wanted it so."""
    repo = world.repository("early-stop", PLAN, test__sh=writes(junit(a="adrift"), status=1))
    site = world.site
    with site.store.transaction() as session:
        project = session.scalars(select(Project).where(Project.name == "early-stop")).one()
        number, project.next_number = project.next_number, project.next_number + 1
        commit = repo.git("rev-parse", "HEAD").strip()
        where = {"event": "manual", "context": "push main", "branch": "main", "commit": commit, "depth": 1}
        made = Run(project_id=project.id, number=number, state="waiting", verdict="undecided", **where)
        session.add(made)
        session.flush()
    ada = Person(0, "Ada Fen", "member")
    assert stop_run(site, "early-stop", number, ada) == 0
    plan_run(site, made.id)
    view = world.get(f"/projects/early-stop/runs/{number}")
    assert [(c["state"], c["reason"]) for c in view["cells"]] == [("stopped", "stopped by Ada Fen")] * 2
    while not view["run"]["ended_at"]:
        time.sleep(0.1)
        view = world.get(f"/projects/early-stop/runs/{number}")
    assert view["run"]["verdict"] == "held" and "stopped by Ada Fen" in view["run"]["sentence"]


def waits_for_a_lock(store: Store, what: str = "cell") -> bool:
    query = f"SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query ILIKE '%%{what}%%'"
    with store.transaction() as session:
        return bool(session.scalar(text(query)))


@pytest.mark.parametrize("taken", ["while it is stopped", "before, and its reports are read"])
def test_what_a_runner_takes_or_ends_at_that_moment_is_stopped_whole_or_not_at_all(world: World, taken: str) -> None:
    site = world.site
    project, [attempt] = stored_project(site.store)
    with site.store.transaction() as session:
        name = session.get_one(Project, project).name
        run = session.scalars(select(Run).where(Run.project_id == project)).one()
        cell = session.get_one(Cell, session.get_one(Attempt, attempt).cell_id)
        run.state, run.verdict, run.plan_digest = "running", "undecided", None
        cell.state, cell.attempt_id, cell.ready = "waiting", None, False
        cell_id = cell.id

    def take(session: Session | Connection) -> None:
        session.execute(text("SELECT 1 FROM cell WHERE id = :cell FOR UPDATE"), {"cell": cell_id})
        session.execute(
            text("UPDATE attempt SET state = 'running', lease_until = now() + interval '1 hour' WHERE id = :attempt"),
            {"attempt": attempt},
        )
        session.execute(
            text("UPDATE cell SET state = 'running', attempt_id = :attempt WHERE id = :cell"),
            {"cell": cell_id, "attempt": attempt},
        )

    ada = Person(0, "Ada Fen", "member")
    if taken.startswith("while"):
        with site.store.engine.connect() as runner, ThreadPoolExecutor(1) as threads:
            take(runner)
            stopping = threads.submit(stop_run, site, name, 1, ada)
            while not waits_for_a_lock(site.store):
                time.sleep(0.05)
            runner.commit()
            assert stopping.result() == 1
        expected = ("stopped", "stopped")
    else:
        with site.store.transaction() as session:
            take(session)
            session.execute(text("UPDATE attempt SET state = 'reading' WHERE id = :a"), {"a": attempt})
        stop_run(site, name, 1, ada)
        expected = ("reading", "running")
    with site.store.transaction() as session:
        found = (session.get_one(Attempt, attempt).state, session.get_one(Cell, cell_id).state)
    forget_project(site, name)  # while the worker ends its run; one whose reports are never read would wait for ever
    assert found == expected


def test_a_project_is_removed_while_something_holds_what_is_in_it(world: World) -> None:
    site = world.site
    project, _ = stored_project(site.store)
    with site.store.transaction() as session:
        name = session.get_one(Project, project).name
    with site.store.engine.connect() as holder, ThreadPoolExecutor(1) as threads:
        holder.execute(text("SELECT 1 FROM run WHERE project_id = :project FOR UPDATE"), {"project": project})
        removal = threads.submit(forget_project, site, name)
        while not waits_for_a_lock(site.store, "project"):
            time.sleep(0.05)
        with suppress(OperationalError):  # each waits for the other: the database gives one of them up
            holder.execute(text("SELECT 1 FROM project WHERE id = :project FOR KEY SHARE"), {"project": project})
        holder.rollback()
        removal.result()
    with site.store.transaction() as session:
        assert session.get(Project, project) is None
