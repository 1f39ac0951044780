"""Events beside pushes, and what a plan makes of them, with a real server, runner and git."""

from __future__ import annotations

import hashlib
import hmac
import json
import time
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from sqlalchemy import select

from inprocess import Stories
from myriant.core.gate.contexts import push_to
from myriant.core.states import EventKind
from myriant.flow.state.starting import start_run
from myriant.flow.upkeep.timekeeping import keep_time
from myriant.store.tables import Approval, Project, Ref, Schedule
from waiting import until
from worlds import Repository, World, junit, writes

GREEN = writes(junit(level="passed", gates="passed"))
RED = writes(junit(level="passed", gates="expected 3, got 2"), status=1)
HEAD = "version = 1\n"
UNIT = """
[jobs.unit]
vary    = { lua = ["5.1", "5.4"] }
runtime = ["lua"]

[[jobs.unit.steps]]
name    = "test"
command = "sh test.sh"
collect = { tests = ["out/unit.xml"] }
"""


def newest(repo: Repository, count: int = 1) -> list[dict[str, Any]]:
    return [c["run"] for c in repo.world.get(f"/projects/{repo.name}/strip", limit=50)["columns"]][-count:]


def decided(repo: Repository, number: int, within: float = 40) -> dict[str, Any]:
    """A run once nothing more of it is coming."""
    end = time.monotonic() + within
    while time.monotonic() < end:
        view: dict[str, Any] = repo.world.get(f"/projects/{repo.name}/runs/{number}")
        if view["run"]["ended_at"]:
            return view
        time.sleep(0.15)
    raise AssertionError(f"#{number} was not decided: {view['run']}")


def cells(view: dict[str, Any]) -> dict[str, tuple[str, str]]:
    return {f"{c['job']} {c['key']}".strip(): (c["state"], c["reason"]) for c in view["cells"]}


def test_a_pull_request_is_tested_as_the_merge_and_judged_against_its_target(world: World) -> None:
    repo = world.repository("pulls", HEAD + UNIT, test__sh=GREEN, **{"a__txt": "a\n"})
    base = repo.commit({"other.sh": "echo main"}, "main moves on")
    repo.push()
    repo.git("checkout", "-q", "-b", "topic", "HEAD~1")
    head = repo.commit({"b.txt": "b\n"}, "Add the upper gate")
    repo.push("topic")
    repo.run_of(base)
    repo.run_of(head)
    said = world.command(
        "project", "pull-request", "pulls", "7", "--from", "topic", "--into", "main", "--title", "Upper gate"
    )
    assert said.returncode == 0, said.stderr
    assert "#" in said.stdout, said.stdout + said.stderr
    number = int(said.stdout.split("#")[1])
    view = decided(repo, number)
    assert (view["run"]["context"], view["run"]["branch"], view["source"], view["run"]["verdict"]) == (
        "pull-request 7",
        "main",
        "topic",
        "clear",
    )
    assert view["baseline"]["commit"] == base
    note = until(lambda: (n := repo.note(head)) and "merged:" in n and n)
    assert f"merged: {head[:12]} into main at {base[:12]}" in note
    strips = {
        ref: [c["run"]["number"] for c in world.get("/projects/pulls/strip", branch=ref)["columns"]]
        for ref in ("main", "pull request 7", "tag none")
    }
    assert number not in strips["main"] and strips["pull request 7"] == [number] and strips["tag none"] == []
    assert "pull request 7" in world.get("/projects/pulls/strip")["branches"]
    # a push to the source branch tests the pull request again
    second = repo.commit({"test.sh": RED}, "Lower it")
    repo.push("topic")
    run = until(lambda: next((v for v in world.contexts(second, "pulls") if v["context"] == "pull-request 7"), None))
    assert decided(repo, run["run"])["run"]["verdict"] == "held"
    # conflicts hold it and name the files
    repo.git("checkout", "-q", "main")
    repo.commit({"test.sh": writes(junit(level="passed", gates="expected 5, got 2"), status=1)}, "Another test")
    repo.push()
    repo.git("checkout", "-q", "topic")
    third = repo.commit({"c.txt": "c"}, "More")
    repo.push("topic")
    run = until(lambda: next((v for v in world.contexts(third, "pulls") if v["context"] == "pull-request 7"), None))
    assert "conflicts in test.sh" in decided(repo, run["run"])["run"]["sentence"]
    # and no common ancestor is said
    repo.git("checkout", "-q", "--orphan", "island")
    repo.commit({"test.sh": GREEN, "myriant.toml": HEAD + UNIT}, "From nothing")
    repo.push("island")
    answer = world.http.put("/projects/pulls/pull-requests/8", json={"source": "island", "target": "main"}).json()
    assert "no common ancestor" in decided(repo, answer["runs"][-1])["run"]["sentence"]
    for wish, why in (
        ({"source": "nowhere", "target": "main"}, "has no branch nowhere"),
        ({"source": "main", "target": "main"}, "into itself"),
        ({}, "names no source"),
    ):
        refused = world.http.put("/projects/pulls/pull-requests/9", json=wish)
        assert refused.status_code == 422 and why in refused.json()["detail"] and refused.json()["mend"]


def test_a_tag_runs_its_jobs_and_what_is_gated_waits_for_verdict_and_word(world: World) -> None:
    plan = (
        HEAD
        + '[events]\npush = {}\ntag = { names = ["v*"] }\n'
        + UNIT
        + '[jobs.publish]\nafter = ["unit"]\nwhen = [{ tag = "v*" }]\ntold = ["tag"]\ngated = true\napproval = { by = ["release"], within = "1 h" }\n'
        + 'expect = { tag-equals = { file = "VERSION" }, mentioned-in = "CHANGES" }\n'
        + '[[jobs.publish.steps]]\nname = "publish"\ncommand = "test $MYRIANT_TAG = v1.0"\n'
    )
    repo = world.repository("tags", plan, test__sh=GREEN, VERSION="1.0\n", CHANGES="1.0: first\n")
    assert [c["job"] for c in decided(repo, 1)["cells"]] == ["unit", "unit"], decided(repo, 1)["run"]["sentence"] + str(
        decided(repo, 1)["left_out"]
    )
    assert "does not hold for a push to main" in next(
        j["reason"] for j in decided(repo, 1)["left_out"] if j["job"] == "publish"
    )
    repo.commit({"README": "two"}, "Two")
    repo.git("tag", "-a", "v1.0", "-m", "one")
    repo.git("push", "-q", "origin", "v1.0")
    commit = repo.git("rev-parse", "HEAD").strip()
    run = until(lambda: next((v for v in world.contexts(commit, "tags") if v["context"] == "tag v1.0"), None))
    view = decided(repo, run["run"])
    assert view["run"]["verdict"] == "clear" and view["tag"] == "v1.0"
    assert "tag v1.0" in world.get("/projects/tags/strip")["branches"]
    assert [c["run"]["number"] for c in world.get("/projects/tags/strip", branch="tag v1.0")["columns"]] == [run["run"]]
    waiting = until(lambda: (v := world.get(f"/projects/tags/runs/{run['run']}"))["approvals"] and v)
    assert waiting["approvals"][0]["state"] == "waiting"
    assert "Then publish waits for an approval by release" in waiting["run"]["sentence"]
    assert (
        world.http.post(f"/projects/tags/runs/{run['run']}/approvals/publish", json={"given": True}).status_code == 204
    )
    ended = until(
        lambda: (v := world.get(f"/projects/tags/runs/{run['run']}")) and "publish passed" in v["run"]["sentence"] and v
    )
    assert ended["run"]["verdict"] == "clear"
    assert (
        world.http.post(f"/projects/tags/runs/{run['run']}/approvals/publish", json={"given": False}).status_code == 409
    )
    assert "behind the verdict: Then publish passed." in until(
        lambda: (n := repo.note(commit)) and "publish passed" in n and n
    )
    # a tag that is not what the files say is not published; one that moved is a new run
    repo.git("tag", "v2.0")
    repo.git("push", "-q", "origin", "v2.0")
    run2 = until(lambda: next((v for v in world.contexts(commit, "tags") if v["context"] == "tag v2.0"), None))
    told = until(
        lambda: (
            (v := world.get(f"/projects/tags/runs/{run2['run']}")) and "publish is void" in v["run"]["sentence"] and v
        )
    )
    assert "the tag v2.0 does not equal 1.0 in VERSION" in told["run"]["sentence"] and told["run"]["verdict"] == "clear"
    assert "Same content as" in told["run"]["sentence"]
    moved = repo.commit({"README": "three"}, "Three")
    repo.git("tag", "-f", "v2.0")
    repo.git("push", "-q", "-f", "origin", "v2.0")
    run3 = until(lambda: next((v for v in world.contexts(moved, "tags") if v["context"] == "tag v2.0"), None))
    assert run3["run"] > run2["run"]


def test_an_approval_that_does_not_come_in_time_ends_the_job(world: World) -> None:
    plan = (
        HEAD
        + UNIT
        + '[jobs.ship]\ngated = true\napproval = { by = ["release"], within = "1 h" }\n[[jobs.ship.steps]]\ncommand = "true"\n'
    )
    world.repository("too-late", plan, test__sh=GREEN)
    until(lambda: world.get("/projects/too-late/runs/1")["approvals"])
    site = world.site
    keep_time(site, datetime.now(UTC) + timedelta(hours=2))
    view = until(lambda: (v := world.get("/projects/too-late/runs/1")) and "was skipped" in v["run"]["sentence"] and v)
    assert "no approval by release came in time" in view["run"]["sentence"] and view["run"]["verdict"] == "clear"
    with site.store.transaction() as session:
        assert "late" in session.scalars(select(Approval.state)).all()


def test_jobs_wait_for_each_other_and_say_why_they_do_not_run(world: World) -> None:
    plan = (
        HEAD
        + UNIT
        + "".join(
            f'[jobs.{name}]\nafter = {after}\n[[jobs.{name}.steps]]\ncommand = "{command}"\n'
            for name, after, command in (
                ("pack", '["unit"]', "exit 4"),
                ("ship", '["pack"]', "true"),
                ("report", '[{ job = "pack", even-if = "failed" }]', "true"),
            )
        )
    )
    repo = world.repository("order", plan, test__sh=GREEN)
    view = decided(repo, 1)
    found = cells(view)
    assert found["unit lua=5.1"][0] == "passed" and found["pack"][0] == "failed"
    assert found["ship"] == ("skipped", "pack did not pass") and found["report"][0] == "passed"
    assert view["run"]["verdict"] == "held" and "pack" in view["run"]["sentence"]
    ended = {c["job"]: c["started_at"] for c in view["cells"]}
    assert ended["pack"] > max(c["started_at"] for c in view["cells"] if c["job"] == "unit")


def test_steps_follow_their_conditions_and_a_failure_is_honest(world: World) -> None:
    steps = [
        'name = "only new"\nwhen = [{ lua = ">= 5.4" }]\ncommand = "echo new > new.txt"',
        'name = "forgiven"\nmay-fail = true\ncommand = "exit 3"',
        'name = "where"\nfolder = "sub folder"\nenv = { GREETING = "hello" }\nshell = "bash"\ncommand = "test \\"$GREETING $(basename \\"$PWD\\")\\" = \\"hello sub folder\\" && [[ -f x ]]"',
        'name = "test"\ncommand = "sh test.sh"\ncollect = [{ tests = ["out/unit.xml"] }, { kind = "again", tests = ["out/*.xml"] }]',
        'name = "settings"\ncommand = "grep -q tide=high .env && test -z \\"$MYRIANT_NOTHING\\""',
        'name = "breaks"\nwhen = [{ lua = "5.1" }]\ncommand = "exit 9"',
        'name = "after it"\ncommand = "true"',
        'name = "always"\nalways = true\ncommand = "true"',
    ]
    plan = (
        HEAD + '[defaults]\nenv = { LEVEL = "low" }\n[jobs.unit]\nvary = { lua = ["5.1", "5.4"] }\nruntime = ["lua"]\n'
        'settings = { example = "env.example", file = "env.ci", to = ".env" }\nsource = { history = "full", tags = true }\n'
        + "".join(f"[[jobs.unit.steps]]\n{s}\n" for s in steps)
    )
    files: dict[str, str | None] = {
        "test.sh": GREEN,
        "sub folder/x": "",
        "env.example": "tide=\n",
        "env.ci": "tide=high\n",
        "myriant.toml": plan,
    }
    repo = world.repository("steps", None)
    view = repo.pushed(files, "first")
    by_cell = {c["key"]: world.get(f"/attempts/{c['attempt_id']}") for c in view["cells"]}
    old, new = by_cell["lua=5.1"]["steps"], by_cell["lua=5.4"]["steps"]
    assert [(s["name"], s["state"]) for s in new] == [
        ("only new", "passed"),
        ("forgiven", "failed"),
        ("where", "passed"),
        ("test", "passed"),
        ("settings", "passed"),
        ("breaks", "skipped"),
        ("after it", "passed"),
        ("always", "passed"),
    ]
    assert [s["state"] for s in old] == [
        "skipped",
        "failed",
        "passed",
        "passed",
        "passed",
        "failed",
        "skipped",
        "passed",
    ]
    assert (
        "its when (lua>=5.4) does not hold here" in old[0]["reason"]
        and old[6]["reason"] == "step breaks did not end well"
    )
    assert cells(view)["unit lua=5.4"][0] == "passed" and cells(view)["unit lua=5.1"][0] == "failed"
    assert "step breaks failed" in view["run"]["sentence"]
    assert {r["kind"] for r in by_cell["lua=5.4"]["reports"]} == {"unit", "again"}
    lacking = repo.pushed({"env.ci": "other=1\n"}, "no tide")
    assert "env.ci gives no value for tide, which env.example names" in lacking["run"]["sentence"]


def test_a_sample_runs_a_part_states_its_blind_spots_and_stays_when_a_value_is_added(world: World) -> None:
    plan = (
        HEAD
        + '[jobs.unit]\nvary = { a = ["1", "2", "3"], b = ["1", "2", "3"], c = ["1", "2", "3"] }\nsample = { strength = 2, events = ["push"] }\n'
        'advisory = [{ a = "3", b = "3" }]\n[[jobs.unit.steps]]\nname = "test"\ncommand = "echo $MYRIANT_CELL_A $MYRIANT_CELL_B; sh test.sh"\n'
        'collect = { tests = ["out/unit.xml"] }\n'
    )
    repo = world.repository("sampled", plan, test__sh="echo $MYRIANT_CELL_C\n" + GREEN)
    first = decided(repo, 1)
    chosen = {c["key"] for c in first["cells"] if c["selected"]}
    assert first["run"]["verdict"] == "clear" and 9 <= len(chosen) < 27 and len(first["cells"]) == 27
    assert {c["state"] for c in first["cells"] if not c["selected"]} == {"skipped"}
    assert f"{len(chosen)} of {len(chosen)} cells" in first["run"]["sentence"]
    assert first["problems"] == []
    blind = first["left_out"][0]["blind"]
    assert blind["size"] == 3 and 0 < blind["missed"] < blind["possible"] and len(blind["examples"][0]) == 3
    second = repo.pushed(
        {"myriant.toml": plan.replace('c = ["1", "2", "3"]', 'c = ["1", "2", "3", "4"]')}, "one more value"
    )
    again = {c["key"] for c in second["cells"] if c["selected"]}
    assert len(again & chosen) >= 0.9 * len(chosen)
    answer = world.http.post("/projects/sampled/runs", json={"cells": "a=1,b=1"}).json()
    by_hand = decided(repo, answer["runs"][0])
    assert {c["values"]["c"] for c in by_hand["cells"]} == {"1", "2", "3", "4"} and by_hand["run"]["context"] == ""


def test_the_same_content_gets_the_same_answer_without_running_again(world: World) -> None:
    repo = world.repository("same", HEAD + UNIT, test__sh=GREEN)
    first = decided(repo, 1)
    commit = repo.commit({}, "An empty commit")
    repo.push()
    view = repo.run_of(commit)
    assert {c["reused"] for c in view["cells"]} == {1} and "Same content as #1." in view["run"]["sentence"]
    assert [c["attempt_id"] for c in view["cells"]] == [c["attempt_id"] for c in first["cells"]]
    assert view["run"]["verdict"] == "clear" and view["tests"] == 2
    # a schedule and a run by hand never reuse
    by_hand = decided(
        repo, world.http.post("/projects/same/runs", json={"ref": "main", "jobs": ["unit"]}).json()["runs"][0]
    )
    assert {c["reused"] for c in by_hand["cells"]} == {None}
    for wish, why in (
        ({"ref": "nowhere"}, "no branch, tag or commit nowhere"),
        ({"cells": "??"}, "is no condition"),
        ({"ref": "-x"}, "no branch"),
    ):
        refused = world.http.post("/projects/same/runs", json=wish)
        assert refused.status_code == 422 and why in refused.json()["detail"]


def test_exempt_and_untested_commits_are_recorded_with_their_reason(world: World) -> None:
    plan = (
        HEAD
        + '[events]\npush = { branches = ["main"], unless-only = ["docs/**"] }\n'
        + UNIT
        + '[jobs.slow]\ntouching = ["slow/**"]\n[[jobs.slow.steps]]\ncommand = "true"\n'
    )
    repo = world.repository("exempted", plan, test__sh=GREEN)
    between = repo.commit({"a.txt": "a"}, "Between")
    head = repo.commit({"slow/b.txt": "b"}, "On top")
    repo.push()
    assert [c["job"] for c in repo.run_of(head)["cells"]] == ["unit", "unit", "slow"]
    told = world.word(between, "exempted")
    assert told is not None and told["verdict"] == "none"
    assert told["untested"] == [f"it was pushed together with {head[:7]}, which run #2 tested"]
    said = world.command("verdict", between)
    assert said.returncode == 4 and "pushed together" in said.stderr + said.stdout
    docs = repo.pushed({"docs/a.md": "a"}, "Only words")
    assert docs["run"]["verdict"] == "exempt" and docs["run"]["sentence"].startswith(
        "Exempt: only files of docs/** changed"
    )
    quick = repo.pushed({"a.txt": "c"}, "Quick")
    assert [(c["job"], c["reused"]) for c in quick["cells"]] == [("unit", None), ("unit", None), ("slow", 2)]
    assert [j["reason"] for j in quick["left_out"]] == ["no changed file is one of slow/**"]
    assert "1 job (slow) brought along from #2" in quick["run"]["sentence"]
    # a rewritten history and a branch that is deleted do no harm
    repo.git("reset", "-q", "--hard", "HEAD~2")
    rewritten = repo.commit({"a.txt": "rewritten"}, "Rewritten")
    repo.push("main", "--force")
    assert repo.run_of(rewritten)["run"]["verdict"] == "clear"
    repo.push("side")
    repo.git("push", "-q", "origin", ":refs/heads/side")
    assert newest(repo)[0]["branch"] == "main"


def test_an_event_over_http_is_signed_recognised_when_repeated_and_refused_when_forged(world: World) -> None:
    repo = world.repository("told", HEAD + UNIT, test__sh=GREEN)
    repo.git("checkout", "-q", "-b", "topic")
    repo.commit({"a.txt": "a"}, "A change")
    repo.push("topic")
    secret = world.command("project", "event-secret", "told").stdout.strip()

    def send(event: Any, key: str = secret, **more: Any) -> Any:
        body = event if isinstance(event, bytes) else json.dumps(event).encode()
        signature = "sha256=" + hmac.new(key.encode(), body, hashlib.sha256).hexdigest()
        return world.http.post(
            "/events", params={"project": "told"}, content=body, headers={"X-Myriant-Signature": signature, **more}
        )

    event = {
        "specversion": "1.0",
        "id": "e-1",
        "source": "https://boats.fenmark.example",
        "type": "dev.cdevents.change.created.0.4.0",
        "data": {
            "subject": {
                "id": "changes/12",
                "content": {"source": "topic", "target": "main", "title": "A change", "author": "Ada Fen"},
            }
        },
    }
    answer = send(event).json()
    assert answer["repeated"] is False and "started #" in answer["said"]
    view = decided(repo, answer["runs"][-1])
    assert (view["run"]["context"], view["run"]["verdict"]) == ("pull-request 12", "clear")
    assert send(event).json() == {"said": answer["said"], "runs": [], "repeated": True}
    assert send({**event, "id": "e-2"}, key="forged").status_code == 401
    assert world.http.post("/events", params={"project": "told"}, json=event).status_code == 401
    for wrong, status, why in (
        (b"no json", 400, "not JSON"),
        (b"[]", 400, "not a JSON object"),
        ({**event, "id": ""}, 422, "no id"),
        ({**event, "id": "x", "specversion": "0.3"}, 422, "specversion"),
        ({**event, "id": "x", "type": "org.example.rain"}, 422, "starts nothing"),
        ({**event, "id": "x", "data": {"subject": {"id": "none"}}}, 422, "no number"),
        ({**event, "id": "x", "data": 7}, 422, "no number"),
    ):
        refused = send(wrong)
        assert refused.status_code == status and why in refused.json()["detail"], refused.text
    merged = send({**event, "id": "e-3", "type": "dev.cdevents.change.merged.0.2.0"}).json()
    assert merged["said"] == "pull request 12 is merged"
    looked = send({**event, "id": "e-4", "type": "dev.cdevents.branch.created.0.2.0"}).json()
    assert looked["said"] == "nothing new in the repository"
    assert world.get("/projects/told/coming")["pull_requests"][0]["state"] == "merged"


@pytest.mark.parametrize(
    ("where", "said"),
    [("ci/myriant.toml", "but ci/myriant.toml: move it"), (".myriant.toml", "but .myriant.toml: move it")],
)
def test_a_misplaced_plan_is_found_and_a_plan_on_the_server_serves_until_there_is_one(
    world: World, where: str, said: str
) -> None:
    name = f"lost{len(where)}"
    repo = world.repository(name, None)
    view = repo.pushed({where: HEAD + UNIT, "test.sh": GREEN}, "Plan at the wrong place")
    assert view["run"]["verdict"] == "held" and said in view["run"]["sentence"]
    assert said in world.get(f"/projects/{name}/plan")["misplaced"]
    bad = world.http.put(f"/projects/{name}/plan", json={"text": "version = 2"})
    assert bad.status_code == 422 and "the plan has problems" in bad.json()["detail"]
    assert world.http.put(f"/projects/{name}/plan", json={"text": HEAD + UNIT}).status_code == 204
    assert world.get(f"/projects/{name}/plan")["origin"] == "server"
    assert repo.pushed({"a.txt": "a"}, "Served")["run"]["verdict"] == "clear"
    assert world.http.delete(f"/projects/{name}/plan").status_code == 204


def test_rules_hold_for_their_cells_their_folder_and_from_their_day_on(world: World) -> None:
    report = "mkdir -p out; printf 'SF:src/locks/a.lua\\nDA:1,1\\nDA:2,0\\nend_of_record\\nSF:src/b.lua\\nDA:1,0\\nend_of_record\\n' > out/c.info\n"
    split = report + 'if lua -v 2>&1 | grep -q "Lua 5.1"; then sh red.sh; else sh green.sh; fi\n'
    rules = [
        'name = "new versions"\nmeasure = "tests.failed"\nat-most = 0\ncells = [{ lua = ">= 5.4" }]',
        'name = "old versions"\nmeasure = "tests.failed"\nat-most = 0\ncells = [{ lua = "5.1" }]\nlevel = "warn"',
        'name = "locks"\nmeasure = "coverage.line"\nat-least = 0.5\nfolder = "src/locks"',
        'name = "everything"\nmeasure = "coverage.line"\nat-least = 0.4\nlevel = "warn"',
        'name = "some day"\nmeasure = "tests.failed"\nat-most = 0\nsince = 2999-01-01',
    ]
    plan = (
        HEAD
        + UNIT.replace('tests = ["out/unit.xml"]', 'tests = ["out/unit.xml"], coverage = ["out/c.info"]')
        + "".join(f"[[gate.rules]]\n{r}\n" for r in rules)
    )
    repo = world.repository("scoped", None)
    view = repo.pushed(
        {
            "myriant.toml": plan,
            "test.sh": split,
            "red.sh": RED,
            "green.sh": GREEN,
            "src/locks/a.lua": "1\n2\n",
            "src/b.lua": "1\n",
        },
        "first",
    )
    met = {r["name"]: (r["met"], r["value"]) for r in view["judged"] if not r["built_in"]}
    assert met == {
        "new versions": (True, "0"),
        "old versions": (False, "1"),
        "locks": (True, "50.0 %"),
        "everything": (False, "33.3 %"),
    }
    assert view["run"]["verdict"] == "held" and view["run"]["sentence"].startswith("Held: 1 test newly fails"), view[
        "run"
    ]["sentence"]


def test_housekeeping_runs_by_a_schedule_that_names_it_and_no_verdict_depends_on_it(world: World) -> None:
    plan = (
        HEAD
        + UNIT
        + '[jobs.sweep]\nhousekeeping = true\n[[jobs.sweep.steps]]\nname = "sweep"\ncommand = "sh sweep.sh"\n'
        '[[events.schedule]]\nname = "tidy"\nevery = "day"\nat = "03:10"\njobs = ["sweep"]\n'
        '[[events.schedule]]\nname = "nightly"\nevery = "day"\nat = "02:10"\n[events.push]\n'
    )
    repo = world.repository("tidied", plan, test__sh=GREEN, sweep__sh="echo swept; exit 3")
    pushed = decided(repo, 1)
    commit = pushed["run"]["commit"]
    assert {c["job"] for c in pushed["cells"]} == {"unit"} and pushed["left_out"] == []
    site = world.site

    def due(name: str) -> dict[str, Any]:
        with site.store.transaction() as session:
            found = session.scalar(
                select(Schedule).join(Project).where(Project.name == "tidied", Schedule.name == name)
            )
            assert found is not None
            found.next_at = datetime.now(UTC) - timedelta(minutes=1)
        number = len(world.get("/projects/tidied/runs")["runs"]) + 1
        return until_open_ends(repo, number)

    tidy = due("tidy")
    assert tidy["run"]["verdict"] == "none" and {c["job"] for c in tidy["cells"]} == {"sweep"}
    said = tidy["run"]["sentence"]
    assert said.startswith("No verdict: only housekeeping was asked for") and "Housekeeping: sweep failed" in said
    # it fails, and the commit is as clear as before; the Desk and the morning say that it failed
    word = world.word(commit, "tidied")
    assert word is not None and word["verdict"] == "clear" and word["run"] == 1
    assert [(u["run"], u["job"]) for u in world.get("/desk")["untidy"] if u["project"] == "tidied"] == [(2, "sweep")]
    schedules = {s["name"]: s for s in world.get("/projects/tidied/morning")["schedules"]}
    assert (
        "Housekeeping: sweep failed" in schedules["tidy"]["said"]
        and world.get("/projects/tidied/releases")["cards"] == []
    )
    nightly = due("nightly")
    assert nightly["run"]["verdict"] == "clear" and {c["job"] for c in nightly["cells"]} == {"unit"}
    # again, once it is mended: it ends well, and nothing is left on the Desk
    repo.pushed({"sweep.sh": "echo swept"}, "Mend the broom")
    assert "Housekeeping: sweep passed." in due("tidy")["run"]["sentence"]
    assert [u for u in world.get("/desk")["untidy"] if u["project"] == "tidied"] == []
    chosen = world.http.post("/projects/tidied/runs", json={"ref": "main", "jobs": ["sweep"]}).json()["runs"][0]
    assert until_open_ends(repo, chosen)["run"]["verdict"] == "none"
    # what the plan has no more is nobody's to tidy; what makes a test housekeeping asks less
    repo.pushed({"sweep.sh": "exit 3"}, "Lose the broom")
    assert "sweep failed" in due("tidy")["run"]["sentence"] and of_tidied(world) == ["sweep"]
    gone = plan.partition("[jobs.sweep]")[0] + "[events.push]\n"
    repo.pushed({"myriant.toml": gone}, "Sweep no more")
    assert of_tidied(world) == []
    loose = repo.pushed(
        {
            "myriant.toml": gone.replace("[jobs.unit]", "[jobs.unit]\nhousekeeping = true")
            + '[jobs.a]\n[[jobs.a.steps]]\ncommand = "true"\n'
        },
        "Test no more",
    )
    assert loose["run"]["verdict"] == "held" and "job unit is housekeeping" in loose["run"]["sentence"]


def of_tidied(world: World) -> list[str]:
    return [u["job"] for u in world.get("/desk")["untidy"] if u["project"] == "tidied"]


def until_open_ends(repo: Repository, number: int) -> dict[str, Any]:
    """A run of this number, once nothing of it waits or runs and what lies behind its verdict is said."""
    end = time.monotonic() + 120
    while True:
        answer = repo.world.http.get(f"/projects/{repo.name}/runs/{number}")
        view: dict[str, Any] = answer.json()
        over = answer.is_success and view["cells"] and not view["open"] and view["run"]["verdict"] != "undecided"
        if over and " runs" not in view["run"]["sentence"] and " waits" not in view["run"]["sentence"]:
            return view
        assert time.monotonic() < end, view
        time.sleep(0.1)


def contexts_run(repo: Repository) -> list[tuple[str, str]]:
    runs = repo.world.get(f"/projects/{repo.name}/runs", wanted="{}")["runs"]
    return [(r["context"], r["commit"]) for r in reversed(runs)]


def test_a_bell_is_only_a_bell_and_the_repository_says_what_is_so(world: Stories) -> None:
    repo = world.repository("forged", HEAD + UNIT, **{"test.sh": GREEN})
    first = repo.git("rev-parse", "HEAD").strip()
    second = repo.commit({"n": "2"})
    repo.push()
    repo.git("checkout", "--quiet", "-b", "side")
    side = repo.commit({"test.sh": "# a stranger's\n" + GREEN})
    repo.push("side")
    known = contexts_run(repo)
    assert known == [("push main", first), ("push main", second), ("push side", side)]
    nowhere, main, other = "0" * 40, "refs/heads/main", "refs/heads/other"
    for ref, before, after in (
        (main, second, side),  # never there
        (main, second, nowhere),  # not deleted
        (main, second, "c" * 40),  # no commit
        (main, first, second),  # long ago
        (main, second, first),  # back, without being there
        (other, nowhere, side),  # no such branch
        ("refs/heads/ma*", nowhere, side),
        ("refs/heads/", nowhere, side),
        ("refs/heads/a\0b", nowhere, side),
        ("refs/heads/" + "a" * 200_000, nowhere, side),
    ):
        moved = {"moved": [{"ref": ref, "before": before, "after": after}]}
        rung = {"Authorization": f"Bearer {world.bells['forged']}"}
        answer = world.http.post("/projects/forged/bell", json=moved, headers=rung)
        assert answer.status_code == 200, answer.text
        assert contexts_run(repo) == known, (ref, after)
    repo.git("checkout", "--quiet", "main")
    with world.nobody_working():
        third = repo.commit({"n": "3"})
        repo.push()
    assert contexts_run(repo) == [*known, ("push main", third)], "and what is so goes on"


def test_a_bell_that_is_heard_late_is_confirmed_by_what_the_branch_has_passed(world: Stories) -> None:
    repo = world.repository("heard-late", HEAD + UNIT, **{"test.sh": GREEN})
    start = repo.git("rev-parse", "HEAD").strip()
    one, two = repo.commit({"n": "1"}), repo.commit({"n": "2"})
    repo.git("-c", "core.hooksPath=/dev/null", "push", "--quiet", str(repo.origin), "HEAD:refs/heads/main")
    for before, after in ((start, one), (one, two)):
        moved = {"moved": [{"ref": "refs/heads/main", "before": before, "after": after}]}
        rung = {"Authorization": f"Bearer {world.bells['heard-late']}"}
        assert world.http.post("/projects/heard-late/bell", json=moved, headers=rung).status_code == 200
    assert [c for _, c in contexts_run(repo)] == [start, one, two]


@pytest.mark.parametrize("odd", ["\u2028", "\u2029", "\u0085", "\u00a0", "\u200b", "\u202e", "\ufeff"])
@pytest.mark.parametrize("where", ["branch", "tag"])
def test_a_name_that_nobody_can_read_is_taken_for_no_other_and_not_tested(world: Stories, odd: str, where: str) -> None:
    name = f"odd-{where}-{ord(odd):x}"
    repo = world.repository(name, HEAD + UNIT, **{"test.sh": GREEN})
    known = contexts_run(repo)
    repo.git("checkout", "--quiet", "-b", "side")
    repo.commit({"test.sh": "# of a stranger\n" + GREEN})
    if where == "branch":
        said = repo.push(f"main{odd}x")
    else:
        repo.git("tag", f"v1{odd}2")
        repo.git("push", "origin", f"v1{odd}2")
        said = ""
    repo.world.sweep()
    assert contexts_run(repo) == known, "no run, and none of main"
    assert where == "tag" or f"nobody can see U+{ord(odd):04X}" in said, said
    with world.site.store.view() as session:
        branches = {r.name: r.commit for r in session.scalars(select(Ref).join(Project).where(Project.name == name))}
    assert branches["refs/heads/main"] == known[0][1], "main stands where it stood"


def test_a_commit_that_is_gone_when_it_is_read_is_held_and_says_so(world: Stories) -> None:
    repo = world.repository("no-commit", HEAD + UNIT, **{"test.sh": GREEN})
    with world.site.store.transaction() as session:
        project = session.scalars(select(Project).where(Project.name == "no-commit")).one()
        gone, event = "1234567890" * 4, EventKind.PUSH
        start_run(session, project, event=event, context=push_to("main"), branch="main", commit=gone)
    world.settle()
    run = world.get("/projects/no-commit/runs/2")["run"]
    assert run["verdict"] == "held" and "cannot be read" in run["sentence"], run
    assert contexts_run(repo)[-1] == ("push main", gone)
