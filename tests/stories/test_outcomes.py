"""Every way in which a run can end, and what each place says then: the same, and never clear without results that can
be trusted. docs/outcomes.md is written from it with MYRIANT_WRITE=1.
"""

from __future__ import annotations

import os
import re
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from harbour import Harbour
from myriant.cli.database import free_port
from standins import MailRoom, Receiver, mail_room, receiver
from worlds import HERE, Repository, World, one_installation

pytestmark = pytest.mark.long

PLAN = """version = 1
[events]
push = { unless-only = ["docs/**"] }
[jobs.unit]
runtime = ["lua"]
vary = { lua = ["5.4"] }
[[jobs.unit.steps]]
command = "sh run.sh"
collect = { tests = ["out/*.xml"] }
"""
CASES = {"gate_opens": "", "gate_shuts": "", "gauge_reads": ""}
FAILS, SKIPS = "<failure message='adrift'>at the bar</failure>", "<skipped/>"
EXITS = {"clear": 0, "exempt": 0, "held": 1, "undecided": 3, "none": 4}


def report(**other: str) -> str:
    rows = "".join(
        f"<testcase name='{n}'>{inner}</testcase>" for n, inner in {**CASES, **other}.items() if inner != "-"
    )
    return f"mkdir -p out; cat > out/a.xml <<'END'\n<testsuite name='tide'>{rows}</testsuite>\nEND\n"


@dataclass(frozen=True)
class Way:
    """A branch's pushes, one after the other; what is said of the last."""

    name: str
    must: str
    pushes: list[Mapping[str, str | None]]
    said: str  # a part of the sentence
    act: str = ""  # what is done while it runs


def run(script: str) -> dict[str, str | None]:
    return {"run.sh": script}


WAYS = [
    Way("Every test passes", "clear", [run(report() + "# again\n")], "Clear: 3 of 3 tests passed"),
    Way("A test newly fails", "held", [run(report(gate_opens=FAILS) + "exit 1")], "1 test newly fails"),
    Way(
        "What failed in the push before fails still",
        "held",
        [run(report(gate_opens=FAILS) + "exit 1"), {"notes": "words"}],
        "1 test newly fails",
    ),
    Way(
        "Only documents were pushed upon that",
        "held",
        [run(report(gate_opens=FAILS) + "exit 1"), {"docs/a": "words"}],
        "1 test newly fails",
    ),
    Way("The only failing test is in quarantine", "clear", [run(report(gauge_reads=FAILS) + "exit 1")], "quarantine"),
    Way("The step ends badly, and no test says why", "held", [run(report() + "exit 3")], "no test says why"),
    Way("No report is there", "held", [run("exit 0")], "report missing"),
    Way(
        "The report breaks off",
        "held",
        [run(report() + "head -c 90 out/a.xml > out/b; mv out/b out/a.xml")],
        "no trustworthy result",
    ),
    Way(
        "Every test is skipped",
        "held",
        [run(report(gate_opens=SKIPS, gate_shuts=SKIPS, gauge_reads=SKIPS))],
        "no trustworthy result",
    ),
    Way(
        "A test is listed no more, and its name still stands in the sources",
        "held",
        [{**run(report(gate_shuts="-")), "list": "gate_shuts\n"}],
        "vanished",
    ),
    Way("A test is newly skipped", "clear", [run(report(gate_shuts=SKIPS))], "newly skipped"),
    Way(
        "It takes longer than its limit",
        "held",
        [{**run("sleep 300"), "myriant.toml": PLAN.replace("[[jobs", 'timeout = "1s"\n[[jobs')}],
        "no trustworthy result",
    ),
    Way("Nothing that a job watches changed", "exempt", [{"docs/b": "words"}], "Exempt"),
    Way("The plan cannot be read", "held", [{"myriant.toml": "version = 1\n[jobs.unit\n"}], "plan"),
    Way("The plan is taken away", "held", [{"myriant.toml": None}], "plan"),
    Way("The plan asks less", "held", [{"myriant.toml": PLAN + '[gate]\nvanished = "warn"\n'}], "asks less"),
    Way(
        "No runner has what a cell wants",
        "undecided",
        [{"myriant.toml": PLAN.replace('["5.4"]', '["9.9"]')}],
        "",
        act="stuck",
    ),
    Way("A person stops it", "held", [run("sleep 300")], "stopped", act="stop"),
]
PLACES = (
    "`myriant verdict`",
    "note on the commit",
    "strip",
    "badge",
    "request by a way",
    "mail",
    "merge at the stand-in host",
)
MAILED = {"cleared": "clear", "held by more": "held"}
INTRO = (
    """# How runs end, and what each place says

Written by `tests/stories/test_outcomes.py` (with `MYRIANT_WRITE=1`), which pushes each of these upon a clear main, through a real
runner, and reads every place. No place says *clear* or *exempt* without results that can be trusted; all say the same.

| What happened | Sentence | """
    + " | ".join(PLACES)
    + " |\n|---|---|"
    + "---|" * len(PLACES)
    + "\n"
)


@dataclass(frozen=True)
class Outside:
    """Those who are told: a receiver of requests, people by mail, a host that merges what is clear."""

    requests: Receiver
    mails: MailRoom
    host: Harbour


@pytest.fixture(scope="module")
def told(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[World, Outside]]:
    """An installation that may tell private addresses, and those who are told."""
    host = Harbour(tmp_path_factory.mktemp("outcomes"), free_port())
    host.begin()
    with receiver() as kept, mail_room() as mails, pytest.MonkeyPatch.context() as patch:
        patch.setenv("MYRIANT_TELL_TO", f"{kept.address},127.0.0.1:{host.port}")
        patch.setenv("MYRIANT_MAIL_SERVER", f"smtp://{mails.address}")
        patch.setenv("MYRIANT_MAIL_FROM", "myriant@here.example")
        with one_installation("myriant-outcomes-") as world:
            yield world, Outside(kept, mails, host)
    host.end()


def branch_of(way: Way) -> str:
    return re.sub(r"[^a-z]+", "-", way.name.lower()).strip("-")


def until(world: World, repo: Repository, commit: str, way: Way) -> dict[str, Any]:
    if way.act != "stuck":
        return repo.run_of(commit)
    while True:
        view = repo.run_of(commit, until="there")
        if any(c["stuck"] for c in view["cells"]):
            return view
        time.sleep(0.2)


def test_all_places_say_how_a_run_ended_and_none_says_clear_without_results(told: tuple[World, Outside]) -> None:
    world, outside = told
    requests = outside.requests
    repo = world.repository("ends", None)
    tell_host_and_people(world, outside.host)
    body = '{"commit": "{commit}", "state": "{state}"}'
    wish = {"kind": "request", "always": True, "url": f"http://{requests.address}/", "body": body}
    assert world.http.put("/projects/ends/ways/all", json=wish).status_code == 204
    first = repo.pushed({"myriant.toml": PLAN, "run.sh": report(), "list": ""}, "first")
    assert first["run"]["verdict"] == "clear"
    tests = world.get("/projects/ends/runs/1/tests", state="all")["rows"]
    number = next(row["test"] for row in tests if row["name"].endswith("gauge_reads"))
    until_then = (datetime.now(UTC) + timedelta(days=7)).isoformat()
    aside = {"tests": [number], "reason": "the gauge drifts", "until": until_then}
    assert world.http.post("/projects/ends/quarantines", json=aside).status_code == 201
    heads = {}
    for way in WAYS:
        repo.git("checkout", "--quiet", "-B", branch_of(way), first["run"]["commit"])
        for files in way.pushes:
            if way.pushes[0] is not files:
                repo.run_of(heads[way.name])
            heads[way.name] = repo.commit(dict(files), way.name)
            repo.push(branch_of(way))
        if way.act == "stop":
            number = repo.run_of(heads[way.name], until="there")["run"]["number"]
            assert world.http.post(f"/projects/ends/runs/{number}/stop").status_code < 300
    key = world.http.post("/projects/ends/badge-key").json()["key"]
    views = {way.name: until(world, repo, heads[way.name], way) for way in WAYS}
    rows = []
    for way in WAYS:
        commit, line = heads[way.name], views[way.name]["run"]
        sentence = line["sentence"] if line["verdict"] != "undecided" or way.act == "stop" else "not decided"
        assert way.said in sentence, (way.name, sentence)
        sentence = re.sub(r"(\.|,| so far)? (in )?\d+ of \d+ cells? .*| in [\d.]+ s,? .*|[0-9a-f]{7,40}", "", sentence)
        places = read(repo, outside, way, commit, key)
        passes = way.must in ("clear", "exempt")
        for place, said in places.items():
            assert passes or not re.search(r"\b(clear|exempt|passed)\b", said), (way.name, place, said)
            open_yet = said in ("", "pending") and way.must == "undecided"
            assert said in (way.must, f"ends with {EXITS[way.must]}") or open_yet, (
                way.name,
                place,
                said,
                sentence,
            )
        rows.append(f"| {way.name} | {sentence} | " + " | ".join(places[p] or "nothing yet" for p in PLACES) + " |\n")
    stuck = next(v["run"]["number"] for n, v in views.items() if n.startswith("No runner"))
    world.http.post(f"/projects/ends/runs/{stuck}/stop")
    page = HERE.parent / "docs/outcomes.md"
    text = INTRO + "".join(rows)
    if os.environ.get("MYRIANT_WRITE"):
        page.write_text(text)
    assert page.read_text() == text


def tell_host_and_people(world: World, host: Harbour) -> None:
    host.did("POST", "/repositories", {"name": "ends"})
    host.did("PUT", "/ends/rules", {"required": ["myriant"]})
    assert world.http.put("/projects/ends/secrets/HOST", json={"value": host.token}).is_success
    outcome = '{"commit": "{commit}", "context": "myriant", "state": "{state}", "sentence": "{sentence}"}'
    wishes = {
        "host": {
            "url": f"{host.address}/api/ends/outcomes",
            "headers": {"Authorization": "Bearer {secret:HOST}"},
            "body": outcome,
        },
        "people": {"kind": "mail", "to": ["ada@tidewater.example"]},
    }
    for name, wish in wishes.items():
        assert world.http.put(f"/projects/ends/ways/{name}", json={"always": True, **wish}).status_code == 204


def mailed(mails: MailRoom, branch: str) -> str:
    """What the newest mail about a branch says, by its subject: "[ends] push to some-branch held: title"."""
    subjects = [str(m["Subject"]).replace("\n", "") for _, m in mails.mails]
    found = [re.match(rf"\[ends\] push to {re.escape(branch)} ([a-z ]+): ", s) for s in subjects]
    words = [m[1] for m in found if m]
    return MAILED.get(words[-1], words[-1]) if words else ""


def at_the_host(host: Harbour, commit: str) -> str:
    """What the host says when a commit is to be merged."""
    told = host.did("GET", f"/ends/commits/{commit}")
    if not told["outcomes"]:
        return ""
    state = told["outcomes"][0]["state"]
    assert told["may_be_merged"] is (state in ("clear", "exempt"))
    return str(state)


def read(repo: Repository, outside: Outside, way: Way, commit: str, key: str) -> dict[str, str]:
    """What each place says, once those that follow a moment later have followed."""
    world, end = repo.world, time.monotonic() + 60
    while True:
        done = world.command("verdict", commit, "--project", repo.name)
        columns = world.get(f"/projects/{repo.name}/strip", branch=branch_of(way))["columns"]
        badge = world.http.get(f"/badges/{key}/verdict.svg", params={"branch": branch_of(way), "text": "x"}).text
        asked = [b["state"] for _, _, b in outside.requests.came if b and b["commit"] == commit]
        places = {
            "`myriant verdict`": f"ends with {done.returncode}",
            "note on the commit": repo.note(commit, within=0)
            .split("\n", 1)[0]
            .removeprefix("verdict: ")
            .split(" (")[0],
            "strip": next(c["run"]["word"] for c in columns if c["run"]["commit"] == commit),
            "badge": re.sub("<[^>]*>", " ", badge).split()[-1],
            "request by a way": asked[-1] if asked else "",
            "mail": mailed(outside.mails, branch_of(way)),
            "merge at the stand-in host": at_the_host(outside.host, commit),
        }
        fine = {way.must, f"ends with {EXITS[way.must]}", *(("", "pending") if way.must == "undecided" else ())}
        late = [p for p, said in places.items() if said not in fine]
        if not late or time.monotonic() > end:
            return places
        time.sleep(0.2)
