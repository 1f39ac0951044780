"""What holds for one event, branch, cell or time, and for no other."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any

import pytest
import sqlalchemy as sa

from inprocess import Stories
from myriant.core.states import ControlState, DeliveryState, EventKind, Place
from myriant.flow.announce import sending
from myriant.flow.compare.grants import withheld
from myriant.flow.state.deliveries import try_again
from myriant.flow.upkeep.retention import prune_a_little
from myriant.store.records import EXAMPLE
from myriant.store.tables import Attempt, Control, Delivery, Project, Run, Secret, Way
from simulated import Simulated, briny
from worlds import PLAN, junit, stored_project, writes

GREEN, RED = junit(a="passed", b="passed"), junit(a="passed", b="expected 1, got 2")


@pytest.fixture(scope="module")
def runner(world: Stories) -> Simulated:
    return Simulated(world, "bounded", token=world.runner_token)


@pytest.mark.parametrize(
    ("secret", "run", "why"),
    [
        ({}, {"branch": "main"}, ""),
        ({}, {"event": EventKind.PULL_REQUEST, "source": "topic"}, "pull-request events"),
        ({"events": ["pull-request"]}, {"event": EventKind.PULL_REQUEST, "source": "topic"}, ""),
        ({"branches": ["main"]}, {"branch": "main"}, ""),
        ({"branches": ["main"]}, {"branch": "side"}, "branch side"),
        # of a pull request its own branch counts, not the one that it goes into
        (
            {"events": ["pull-request"], "branches": ["main"]},
            {"event": EventKind.PULL_REQUEST, "source": "topic"},
            "branch topic",
        ),
        ({"events": ["pull-request"], "branches": ["topic"]}, {"event": EventKind.PULL_REQUEST, "source": "topic"}, ""),
        ({"events": ["pull-request"], "branches": ["rel/*"]}, {"event": EventKind.PULL_REQUEST, "source": "rel/2"}, ""),
        ({"jobs": ["publish"]}, {"branch": "main"}, "not for job unit"),
    ],
)
def test_a_secret_is_given_within_its_bounds(secret: dict[str, Any], run: dict[str, Any], why: str) -> None:
    wide: dict[str, Any] = {"events": [], "branches": [], "jobs": []}
    usual = {"event": EventKind.PUSH, "branch": "main", "source": ""}
    said = withheld(Secret(name="TOKEN", **{**wide, **secret}), "TOKEN", Run(**{**usual, **run}), "unit")
    assert bool(said) == bool(why) and why in said


def test_what_the_newest_runs_are_judged_by_keeps_its_files_however_old(
    world: Stories, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("myriant.store.retention.KEPT_RUNS", 2)
    repo = world.repository("kept", PLAN, test__sh=writes(GREEN))
    repo.pushed({"x": "first"})
    for n in range(5):  # more than stay whole
        repo.pushed({"test.sh": f"echo sounded {n}\n" + writes(GREEN if n < 2 else RED)})
    runs = world.get("/projects/kept/runs", limit=50)["runs"]
    base = repo.findings({"run": {"number": runs[0]["number"]}})["baseline"]["number"]
    assert base <= runs[0]["number"] - 2, "the last good one is older than all that stay whole by themselves"
    with world.site.store.transaction() as session:
        project = session.scalars(sa.select(Project).where(Project.name == "kept")).one()
        project.keep_days = 1
        old = datetime.now(UTC) - timedelta(days=3)
        session.execute(sa.update(Run).where(Run.project_id == project.id).values(ended_at=old))
        session.execute(sa.update(Attempt).values(ended_at=old))
    while prune_a_little(world.site, datetime.now(UTC)):
        pass

    def has_log(number: int) -> bool:
        cell = world.get(f"/projects/kept/runs/{number}")["cells"][0]
        return bool(world.get(f"/attempts/{cell['attempt_id']}/log/lines")["lines"])

    assert has_log(base) and has_log(runs[0]["number"]) and not has_log(2)


def test_what_never_arrives_is_put_aside_and_tried_no_more_until_somebody_wants_it(
    world: Stories, monkeypatch: pytest.MonkeyPatch
) -> None:
    tried: list[datetime] = []

    def away(*_: Any, **__: Any) -> sending.Answer:
        tried.append(now)
        return sending.Answer(False, "away")

    monkeypatch.setattr(sending, "attempt", away)
    project, _ = stored_project(world.site.store)
    begin = datetime.now(UTC) + timedelta(days=2)
    with world.site.store.transaction() as session:
        way = Way(project_id=project, name="away", kind="request", shown="", sealed=b"", always=True, by="x")
        session.add(way)
        session.flush()
        row = Delivery(
            way_id=way.id,
            project_id=project,
            run=1,
            context="push main",
            subject="1",
            said="",
            told=EXAMPLE,
            state=DeliveryState.WAITING,
            next_at=begin,
        )
        session.add(row)
        session.flush()
        way_id, number = way.id, row.id

    def hours(many: int) -> DeliveryState:
        nonlocal now
        for _ in range(many * 60):
            now += timedelta(minutes=1)
            sending.deliver(world.site, way_id, now)
        with world.site.store.view() as session:
            return DeliveryState(session.get_one(Delivery, number).state)

    now = begin
    assert hours(2) is DeliveryState.WAITING and len(tried) > 5
    assert hours(10) is DeliveryState.ASIDE and len(tried) == sending.MOST_TRIES
    waits = [(b - a).total_seconds() for a, b in pairwise(tried)]
    assert waits == sorted(waits) and waits[-1] >= 3600, "each wait is longer, an hour at most"
    with world.site.store.transaction() as session:
        try_again(session.get_one(Delivery, number))
        session.get_one(Delivery, number).next_at = now
    assert hours(1) is DeliveryState.WAITING and len(tried) > sending.MOST_TRIES


def test_control_runs_of_a_pull_request_repeat_the_merge_that_was_tested(world: Stories) -> None:
    repo = world.repository("merged", PLAN, test__sh=writes(GREEN))
    repo.pushed({"x": "1"})
    repo.git("checkout", "-q", "-b", "topic")
    repo.commit({"test.sh": writes(RED)})
    repo.push("topic")
    repo.git("checkout", "-q", "main")
    repo.pushed({"y": "main goes on"})
    told = world.http.put(
        "/projects/merged/pull-requests/1", json={"source": "topic", "target": "main", "state": "open"}
    )
    number = told.json()["runs"][0]
    view = world.get(f"/projects/merged/runs/{number}")
    assert view["run"]["verdict"] == "held" and view["tested"] not in (view["run"]["commit"], view["base"])
    with world.site.store.view() as session:
        run = session.scalars(sa.select(Run).join(Project).where(Project.name == "merged", Run.number == number)).one()
        controls = session.scalars(sa.select(Control).where(Control.run_id == run.id)).all()
        assert {c.commit for c in controls if c.place is Place.HERE} == {view["tested"]}
        assert {c.commit for c in controls if c.place is Place.BASELINE} == {view["base"]}
        assert {c.state for c in controls} == {ControlState.DONE}
    assert {f["control"] for f in repo.findings(view)["findings"]} == {"change"}


@pytest.mark.parametrize(
    ("how", "running", "waiting"),
    [("never", "running", "waiting"), ("waiting", "running", "waiting"), ("running", "stopped", "stopped")],
)
def test_a_newer_push_stops_what_runs_only_where_the_plan_says_so(
    world: Stories, runner: Simulated, how: str, running: str, waiting: str
) -> None:
    repo = briny(world, f"newer-{how}", cells=2)
    text = repo.git("show", "HEAD:myriant.toml")
    repo.commit({"myriant.toml": text.replace("[jobs.unit]\n", f'[jobs.unit]\nsupersede = "{how}"\n', 1)})
    repo.push()
    older = world.get(f"/projects/{repo.name}/runs")["runs"][0]["number"]
    (lease,) = runner.claim(1, wait=0)
    repo.commit({"x": "on top"})
    repo.push()
    cells = world.get(f"/projects/{repo.name}/runs/{older}")["cells"]
    assert sorted(c["state"] for c in cells) == sorted([running, waiting])
    beat = world.http.post(
        f"/runners/{runner.id}/heartbeat",
        json={"attempts": {str(lease["attempt"]): lease["token"]}},
        headers=runner.own,
    )
    assert bool(beat.json()["lost"]) == (running == "stopped"), "its runner hears of it"
    run = world.get(f"/projects/{repo.name}/runs/{older}")["run"]
    assert (run["verdict"], "superseded" in run["sentence"]) == ("undecided", running == "stopped")
    world.http.delete(f"/projects/{repo.name}", params={"really": repo.name})


def test_a_cell_that_runs_again_says_what_its_newest_attempt_says_and_keeps_the_others(
    world: Stories, runner: Simulated
) -> None:
    repo = briny(world, "anew")
    for report, verdict in ((GREEN, "clear"), (RED, "held")):
        repo.commit({"x": verdict})
        repo.push()
        (lease,) = runner.claim(1, wait=0)
        runner.finish(lease, report, failed_steps=[0] if report is RED else [])
        newest = world.get("/projects/anew/runs")["runs"][0]
        assert newest["verdict"] == verdict
    at = f"/projects/anew/runs/{newest['number']}"
    while left := runner.claim(1, wait=0):  # its control runs
        runner.finish(left[0], RED, failed_steps=[0])
    assert world.http.post(f"{at}/again", json={"which": "not-passed"}).json() == {"cells": 1}
    during = world.get(at)
    assert during["run"]["verdict"] == "undecided" and during["cells"][0]["state"] == "waiting"
    assert world.get(f"/words/{newest['commit']}", project="anew")[0]["verdict"] == "undecided"
    (lease,) = runner.claim(1, wait=0)
    runner.finish(lease, GREEN)
    after = world.get(at)
    assert after["run"]["verdict"] == "clear" and after["cells"][0]["attempt"] == 2
    assert [f["mark"] for f in repo.findings(after)["findings"]] == ["flaky"], "both were said of one content"


def test_steps_after_one_whose_failures_were_mended_by_a_retest_run(world: Stories) -> None:
    flaky = (
        "mkdir -p out; if [ -e tried ]; then echo '<testsuite><testcase name=\"a\"/></testsuite>' > out/unit.xml; "
        'else touch tried; echo \'<testsuite><testcase name="a"><failure message="no"/></testcase></testsuite>\' '
        "> out/unit.xml; exit 1; fi\n"
    )
    plan = (
        'version = 1\n[jobs.unit]\nretry = { tests = 1 }\n[[jobs.unit.steps]]\nname = "test"\ncommand = "sh test.sh"\n'
        'collect = { tests = ["out/unit.xml"] }\n[[jobs.unit.steps]]\nname = "after"\ncommand = "echo later"\n'
    )
    repo = world.repository("mended", plan, test__sh=flaky)
    run = repo.pushed({"x": "1"})
    assert run["run"]["verdict"] == "clear" and run["cells"][0]["flaky"] == 1, run["run"]["sentence"]
    steps = world.get(f"/attempts/{run['cells'][0]['attempt_id']}")["steps"]
    assert [(s["name"], s["state"]) for s in steps] == [("test", "failed"), ("after", "passed")]


@pytest.mark.parametrize(
    ("advisory", "verdict", "behind"), [("", "held", "skipped"), ('advisory = [{ lua = "*" }]\n', "clear", "passed")]
)
def test_what_follows_a_failed_job_runs_only_where_it_is_advisory(
    world: Stories, advisory: str, verdict: str, behind: str
) -> None:
    plan = PLAN.replace("[jobs.unit]\n", f"[jobs.unit]\n{advisory}", 1)
    plan += '[jobs.behind]\nafter = ["unit"]\n[[jobs.behind.steps]]\nname = "say"\ncommand = "echo said"\n'
    repo = world.repository(f"behind-{verdict}", plan, test__sh=writes(RED, status=1))
    run = repo.pushed({"x": "1"})
    assert run["run"]["verdict"] == verdict, run["run"]["sentence"]
    assert {c["state"] for c in run["cells"] if c["job"] == "behind"} == {behind}


def test_a_pull_request_counts_for_its_commit_only_while_it_is_open(world: Stories) -> None:
    repo = world.repository("counted", PLAN, test__sh=writes(GREEN))
    repo.git("checkout", "-q", "-b", "topic")
    commit = repo.commit({"x": "of the topic"})
    repo.push("topic")
    repo.git("checkout", "-q", "main")
    repo.pushed({"x": "of main"})  # the two cannot be merged

    def told(state: str) -> str:
        wish = {"source": "topic", "target": "main", "state": state}
        assert world.http.put("/projects/counted/pull-requests/1", json=wish).is_success
        (word,) = world.get(f"/words/{commit}", project="counted")
        return str(word["verdict"])

    states = ("open", "closed", "open", "merged", "closed")
    assert [told(state) for state in states] == ["held", "clear", "held", "clear", "clear"]
    (pull,) = world.get("/projects/counted/pull-requests", closed=True)["pulls"]
    assert pull["state"] == "merged", "what was merged is never only closed"


def test_a_project_that_is_forgotten_takes_its_own_files_along_and_no_others(world: Stories) -> None:
    for name in ("left", "stays"):
        world.repository(name, PLAN, test__sh=f"echo sounded by {name}\n" + writes(GREEN))

    def attempts_of(name: str) -> set[int]:
        return {c["attempt_id"] for c in world.get(f"/projects/{name}/runs/1")["cells"]}

    def files_of(attempts: set[int]) -> set[str]:
        return {
            key for a in attempts for kind in ("logs", "reports") for key, _ in world.site.blobs.below(f"{kind}/{a}")
        }

    mine, others = attempts_of("left"), attempts_of("stays")
    before = files_of(others)
    assert len(files_of(mine)) >= 4 and len(before) >= 4
    assert world.http.delete("/projects/left", params={"really": "left"}).is_success
    assert not files_of(mine) and files_of(others) == before


def test_who_keeps_a_plan_on_the_server_or_takes_it_away_is_on_record(world: Stories) -> None:
    repo = world.repository("planless", None)
    repo.commit({"x": "1"})
    repo.push()
    assert world.http.put("/projects/planless/plan", json={"text": PLAN}).is_success
    assert world.http.delete("/projects/planless/plan").is_success
    said = [(line["what"], line["said"]) for line in world.get("/projects/planless/audit")]
    assert said == [("plan", "no plan is kept on the server any more"), ("plan", "its plan is kept on the server")]


def test_findings_say_of_a_judged_run_what_its_verdict_says_whatever_is_quarantined_since(world: Stories) -> None:
    repo = world.repository("quarantined", PLAN, test__sh=writes(GREEN))
    held = repo.pushed({"test.sh": writes(RED)})
    test = repo.findings(held)["findings"][0]["tests"][0]["test"]

    def said(number: int) -> tuple[str, int, int]:
        run = world.get(f"/projects/quarantined/runs/{number}")["run"]
        tests = repo.findings({"run": run})["tests"]
        return run["verdict"], tests["new"], tests["quarantined"]

    until = (datetime.now(UTC) + timedelta(days=3)).isoformat()
    wish = {"tests": [test], "reason": "drifts", "until": until}
    assert said(2) == ("held", 1, 0)
    made = world.http.post("/projects/quarantined/quarantines", json=wish)
    assert made.is_success, made.text
    (quarantine,) = filter(None, (f["quarantine"] for f in world.get("/projects/quarantined/flaky")["tests"]))
    assert said(2) == ("held", 1, 0), "it was judged before"
    repo.pushed({"docs": "words"})
    assert said(3) == ("clear", 0, 1)
    assert world.http.delete(f"/projects/quarantined/quarantines/{quarantine['id']}").is_success
    assert said(3) == ("clear", 0, 1), "it was clear because of it"
    repo.pushed({"docs": "more words"})
    assert [said(n) for n in (2, 3, 4)] == [("held", 1, 0), ("clear", 0, 1), ("held", 1, 0)]
    assert world.http.post("/projects/quarantined/runs/3/again", json={"which": "all"}).is_success
    assert said(3) == ("held", 1, 0), "judged again, it is of today"


def test_a_run_that_is_held_early_is_read_as_it_was_held(world: Stories, runner: Simulated) -> None:
    repo = briny(world, "early", cells=2)
    for report in (GREEN, RED):
        repo.commit({"x": report})
        repo.push()
        leases = runner.claim(2, wait=0)
        for lease in leases[: 2 if report is GREEN else 1]:
            runner.finish(lease, report)
    number = world.get("/projects/early/runs")["runs"][0]["number"]

    def said() -> tuple[str, bool, int]:
        run = world.get(f"/projects/early/runs/{number}")["run"]
        return run["verdict"], run["ended_at"] is None, repo.findings({"run": run})["tests"]["new"]

    assert said() == ("held", True, 1)
    test = repo.findings({"run": {"number": number}})["findings"][0]["tests"][0]["test"]
    until = (datetime.now(UTC) + timedelta(days=3)).isoformat()
    wish = {"tests": [test], "reason": "drifts", "until": until}
    assert world.http.post("/projects/early/quarantines", json=wish).is_success
    assert said() == ("held", True, 1)
    runner.finish(leases[1], GREEN)
    assert said() == ("clear", False, 0), "its last cell has it judged as of now"


@pytest.mark.parametrize(
    ("state", "answer"),
    [
        (DeliveryState.ASIDE, 202),
        (DeliveryState.WAITING, 202),
        (DeliveryState.SENT, 409),
        (DeliveryState.KEPT, 409),
        (DeliveryState.UNWANTED, 409),
    ],
)
def test_only_what_did_not_arrive_is_sent_again(world: Stories, state: DeliveryState, answer: int) -> None:
    project, _ = stored_project(world.site.store)
    with world.site.store.transaction() as session:
        way = Way(project_id=project, name="w", kind="request", shown="", sealed=b"", always=True, by="x", on=False)
        session.add(way)
        session.flush()
        row = Delivery(
            way_id=way.id, project_id=project, run=1, context="", subject="1", said="", told=EXAMPLE, state=state
        )
        session.add(row)
        session.flush()
        number, name = row.id, session.get_one(Project, project).name
    assert world.http.post(f"/projects/{name}/sent/{number}/again").status_code == answer
    with world.site.store.view() as session:
        assert session.get_one(Delivery, number).state is (DeliveryState.WAITING if answer == 202 else state)
