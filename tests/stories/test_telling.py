"""Outcomes told by requests and mail: once, in order, again when they did not arrive; a real server and real receivers."""

from __future__ import annotations

import json
import os
import random
import time
from collections.abc import Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest
import sqlalchemy as sa

from myriant.core.plan.model import Events, Owner, Plan
from myriant.core.results.model import Outcome
from myriant.core.states import Verdict
from myriant.flow.announce import sending
from myriant.flow.announce.hearing import tell_gathered
from myriant.flow.announce.mornings import tell_mornings, times_of
from myriant.flow.announce.notices import tell_notices
from myriant.flow.announce.people import AUTHORS, cleared, not_yet, owners_of
from myriant.flow.announce.sending import deliver
from myriant.flow.announce.ways import tell_ways
from myriant.flow.sealing import as_sealed, seal
from myriant.store.engine import Store
from myriant.store.judged import judged_rules
from myriant.store.records import EXAMPLE, Measures, RuleJudged, as_json
from myriant.store.tables import Attempt, Cell, Delivery, Failure, Run, Way
from myriant.store.ways import next_waiting
from standins import MailRoom, Receiver, mail_room, receiver
from worlds import Repository, World, one_installation, stored_project

pytestmark = pytest.mark.long

GREEN = "mkdir -p out; cp report.xml out/a.xml"
PLAN = f"""version = 1
[jobs.unit]
runtime = ["lua"]
vary = {{ lua = ["5.4"] }}
[[jobs.unit.steps]]
command = "{GREEN}"
collect = {{ tests = ["out/*.xml"] }}
"""
PASSES = "<testsuite name='t'><testcase name='a'/></testsuite>"
FAILS = "<testsuite name='t'><testcase name='a'><failure message='{}'/></testcase></testsuite>"


@pytest.fixture(scope="module")
def rooms() -> Iterator[tuple[Receiver, MailRoom]]:
    with receiver() as requests, mail_room() as mails:
        os.environ["MYRIANT_TELL_TO"] = requests.address
        os.environ["MYRIANT_MAIL_SERVER"] = f"smtp://{mails.address}"
        os.environ["MYRIANT_MAIL_FROM"] = "myriant@here.example"
        os.environ["MYRIANT_TELL_SECONDS"] = "900"  # no answer is given up: what hangs is let go by its test
        yield requests, mails
        for name in ("MYRIANT_TELL_SECONDS", "MYRIANT_TELL_TO", "MYRIANT_MAIL_SERVER", "MYRIANT_MAIL_FROM"):
            del os.environ[name]


@pytest.fixture(scope="module")
def telling(rooms: tuple[Receiver, MailRoom]) -> Iterator[World]:
    with one_installation("myriant-telling-") as made:
        yield made


def way(world: World, project: str, name: str, **wish: object) -> None:
    answer = world.http.put(f"/projects/{project}/ways/{name}", json=wish)
    assert answer.status_code == 204, answer.text


def sent(world: World, project: str, *states: str, count: int = 1, within: float = 60) -> list[dict]:
    """What was told, when so much of it is in one of the states."""
    end = time.monotonic() + within
    while True:
        rows = [r for r in world.get(f"/projects/{project}/sent") if not states or r["state"] in states]
        if len(rows) >= count or time.monotonic() > end:
            return rows
        time.sleep(0.1)


def nothing_waits(world: World, project: str, within: float = 60) -> None:
    end = time.monotonic() + within
    while left := [r for r in world.get(f"/projects/{project}/sent") if r["state"] == "waiting"]:
        assert time.monotonic() < end, left
        time.sleep(0.1)


def test_every_outcome_is_told_and_news_only_once(telling: World, rooms: tuple[Receiver, MailRoom]) -> None:
    requests, mails = rooms
    repo = telling.repository("told", None)
    telling.http.put("/projects/told/secrets/ROOM_KEY", json={"value": "opensesame"})
    at = f"http://{requests.address}"
    body = '{"state": "{state}", "n": "{number}", "new": "{tests.new}", "said": "{sentence}", "text": "{text}"}'
    way(telling, "told", "all", always=True, url=f"{at}/all", headers={"X-Key": "{secret:ROOM_KEY}"}, body=body)
    way(telling, "told", "news", url=f"{at}/news?{{short}}", body='{"news": "{news}"}')
    way(telling, "told", "people", kind="mail", to=["ada@tidewater.example"], authors=True)

    green = repo.pushed({"myriant.toml": PLAN, "report.xml": PASSES}, "first")
    requests.wait(2)
    red = repo.pushed({"report.xml": FAILS.format("adrift")}, "Let it drift")
    docs = repo.pushed({"notes.md": "words"}, "Write it down")
    more = repo.pushed({"report.xml": FAILS.format("aground on a bar")}, "Run it aground")
    end = time.monotonic() + 60  # authors hear late, and not at all once it is mended
    while sum(to == ["ada@fenmark.example"] for to, _ in mails.mails) < 2 and time.monotonic() < end:
        time.sleep(0.1)
    clear = repo.pushed({"report.xml": PASSES}, "Float it")
    assert [r["run"]["verdict"] for r in (green, red, docs, more, clear)] == ["clear", "held", "held", "held", "clear"]
    rows = sent(telling, "told", "sent", count=18)

    told = [(path, headers, body) for path, headers, body in requests.came]
    every = [body for path, _, body in told if path == "/all"]
    assert [(b["n"], b["state"]) for b in every if b["state"] != "pending"] == [
        (1, "clear"),
        (2, "held"),
        (3, "held"),
        (4, "held"),
        (5, "clear"),
    ]
    assert {b["n"] for b in every if b["state"] == "pending"} <= {1, 2, 3, 4, 5} and every[0]["state"] == "pending"
    held = next(b for b in every if b["n"] == 2 and b["state"] == "held")
    assert held["new"] == 1 and held["said"] == red["run"]["sentence"] and "adrift" in held["text"]
    assert {h["X-Key"] for p, h, _ in told if p == "/all"} == {"opensesame"}
    # who reads along hears the same, once, in order, and again from any place
    events = telling.get("/projects/told/outcomes")["events"]
    said = [(e["data"]["run"], e["data"]["verdict"], e["data"]["news"]) for e in events]
    assert [one for one in said if one[1] != "undecided"] == [
        (1, "clear", ""),
        (2, "held", "held"),
        (3, "held", ""),
        (4, "held", ""),
        (5, "clear", "cleared"),
    ]
    assert len({e["id"] for e in events}) == len(events)
    half = telling.get("/projects/told/outcomes", after=int(events[2]["id"]), limit=2)
    assert half["events"] == events[3:5] and half["next"] == int(events[4]["id"])
    key = telling.http.post("/projects/told/badge-key").json()["key"]
    feed = telling.http.get(f"/feeds/{key}.atom").text
    assert feed.count("<entry>") == 5 and "Held: 1 test newly fails" in feed
    assert telling.http.get("/feeds/none.atom").status_code == 404 and telling.http.get(f"/feeds/{key}.ics").is_success
    assert [(p.split("?")[0], b["news"]) for p, _, b in told if p != "/all"] == [
        ("/news", "held"),
        ("/news", "held by more"),
        ("/news", "cleared"),
    ]
    assert [str(m["Subject"]).split(": ")[0] for to, m in mails.mails if "ada@tidewater.example" in to] == [
        "[told] push to main held",
        "[told] push to main held by more",
        "[told] push to main cleared",
    ]
    # who may have done it hears by a mail of their own, and with the others that it is mended
    nothing_waits(telling, "told")
    assert {tuple(to) for to, _ in mails.mails} == {
        ("ada@tidewater.example",),
        ("ada@fenmark.example",),
        ("ada@tidewater.example", "ada@fenmark.example"),
    }
    to, mail = mails.mails[0]
    assert "ada@tidewater.example" in to and len({m["In-Reply-To"] for _, m in mails.mails}) == 1
    plain, html = mail.get_body(("plain",)), mail.get_body(("html",))  # type: ignore[attr-defined]
    assert "1 test newly fails" in plain.get_content() and "adrift" in html.get_content()
    assert all("opensesame" not in str(r) for r in rows)
    assert "opensesame" not in telling.http.get("/projects/told/ways").text
    unsent = [r["answer"] for r in telling.get("/projects/told/sent") if r["state"] != "sent"]
    assert all("newer outcome" in answer or "was told already" in answer for answer in unsent), unsent


def test_who_hears_that_it_is_held_early_hears_by_which_test(telling: World, rooms: tuple[Receiver, MailRoom]) -> None:
    _, mails = rooms
    repo = telling.repository("early", None)
    way(telling, "early", "people", kind="mail", to=["ada@tidewater.example"], owners=True)
    slow = PLAN.replace('vary = { lua = ["5.4"] }', 'vary = { lua = ["5.1", "5.4"] }')
    slow = slow.replace('command = "', 'command = "test $MYRIANT_CELL_LUA = 5.1 || sleep 6; ')
    slow += '[[notify.owner]]\nof = ["t/a", "a"]\nwho = ["keeper@fenmark.example"]\n'
    mails.mails.clear()
    repo.commit({"myriant.toml": slow, "report.xml": FAILS.format("adrift")}, "Let it drift")
    repo.push()
    sent(telling, "early", "sent")
    [(to, mail)] = mails.mails
    text = mail.get_body(("plain",)).get_content()  # type: ignore[attr-defined]
    assert "adrift" in text and "(unit" in text and sorted(to) == ["ada@tidewater.example", "keeper@fenmark.example"], (
        text
    )
    repo.run_of(repo.git("rev-parse", "HEAD").strip())
    assert len(mails.mails) == 1


def test_a_word_that_changes_without_a_push_is_told_too(telling: World, rooms: tuple[Receiver, MailRoom]) -> None:
    """A run again, and again: what was told last is what counts, not what was told once before."""
    requests, _ = rooms
    requests.came.clear()
    requests.answers[:] = [(200, {}, b"")]
    repo = telling.repository("rerun", None)
    for way_name, always in (("all", True), ("news", False)):
        url = f"http://{requests.address}/{way_name}"
        way(telling, "rerun", way_name, always=always, url=url, body='{"state": "{state}", "news": "{news}"}')
    repo.pushed({"myriant.toml": PLAN, "report.xml": PASSES}, "first")
    gone = repo.pushed({"report.xml": "<testsuite name='t'><testcase name='b'/></testsuite>"}, "Take a test away")
    assert gone["run"]["verdict"] == "held"
    accepted = telling.http.post(
        "/projects/rerun/runs/2/acceptances",
        json={"reason": "it is tested elsewhere", "tests": gone["acceptable"]["tests"]},
    )
    assert accepted.status_code == 201
    sent(telling, "rerun", "sent", count=7)

    def told(name: str) -> list[str]:
        return [b["news"] if name == "news" else b["state"] for p, _, b in requests.came if p == f"/{name}"]

    assert told("news") == ["held", "cleared"]
    assert [s for s in told("all") if s != "pending"] == ["clear", "held", "clear"]
    telling.http.post("/projects/rerun/runs/2/again", json={"which": "all"})
    end = time.monotonic() + 60
    while told("all")[-2:] != ["pending", "clear"] and time.monotonic() < end:
        time.sleep(0.2)
    assert told("all")[-2:] == ["pending", "clear"] and told("news") == ["held", "cleared"]


@pytest.mark.parametrize(
    ("name", "answers", "state", "said", "tries"),
    [
        ("busy", [(503, {}, b"busy"), (429, {}, b"later"), (200, {}, b"")], "sent", "200", 3),
        ("gone", [(404, {}, b"no such room")], "aside", "404", 1),
        ("moved", [(302, {"Location": "http://127.0.0.1:1/"}, b"")], "aside", "302", 1),
        ("huge", [(200, {}, b"x" * 3_000_000)], "sent", "200", 1),
    ],
)
def test_what_does_not_arrive_is_tried_again_or_put_aside(
    telling: World,
    rooms: tuple[Receiver, MailRoom],
    monkeypatch: pytest.MonkeyPatch,
    name: str,
    answers: list,
    state: str,
    said: str,
    tries: int,
) -> None:
    """Waits are made short in the process that keeps time, which is the test's own."""
    requests, _ = rooms
    repo = telling.repository(f"told-{name}", None)
    requests.came.clear()
    requests.answers[:] = answers
    way(telling, f"told-{name}", "room", always=False, url=f"http://{requests.address}/{name}")
    repo.pushed({"myriant.toml": PLAN, "report.xml": FAILS.format("adrift")}, "first")
    requests.wait(1)
    for _ in range(40):
        rows = sent(telling, f"told-{name}", within=5)
        if rows[0]["state"] != "waiting":
            break
        hurry(telling)
        time.sleep(0.2)
    requests.answers[:] = [(200, {}, b"")]
    assert rows[0]["state"] == state and said in rows[0]["answer"] and rows[0]["tries"] == tries, rows
    mine = [h["Idempotency-Key"] for p, h, _ in requests.came if p == f"/{name}"]
    assert len(mine) == tries and len(set(mine)) == 1
    if state == "aside":
        assert telling.http.post(f"/projects/told-{name}/sent/{rows[0]['id']}/again").status_code == 202
        assert sent(telling, f"told-{name}", "sent")


def hurry(world: World) -> None:
    """As if the waits were over."""
    site = world.site
    with site.store.engine.begin() as connection:
        connection.execute(sa.text("UPDATE delivery SET next_at = now() WHERE state = 'waiting'"))
    sending.call_for_due(site, datetime.now(UTC))


def test_a_mail_server_that_refuses_is_said_and_an_address_that_is_private_gets_nothing(
    telling: World, rooms: tuple[Receiver, MailRoom]
) -> None:
    _, mails = rooms
    repo: Repository = telling.repository("refused", None)
    mails.refused.add("bob@tidewater.example")
    way(telling, "refused", "bob", kind="mail", to=["bob@tidewater.example"])
    way(telling, "refused", "inner", url="http://127.0.0.1:22/")
    repo.pushed({"myriant.toml": PLAN, "report.xml": FAILS.format("adrift")}, "first")
    rows = {r["way"]: r for r in sent(telling, "refused", count=2)}
    end = time.monotonic() + 30
    while any(not r["answer"] for r in rows.values()) and time.monotonic() < end:
        time.sleep(0.1)
        rows = {r["way"]: r for r in sent(telling, "refused", count=2)}
    assert rows["bob"]["state"] == "aside" and "refused: 550" in rows["bob"]["answer"]
    assert rows["inner"]["state"] == "waiting" and "private address" in rows["inner"]["answer"]
    tried = telling.http.post("/projects/refused/ways/inner/try").json()
    assert not tried["arrived"] and "private address" in tried["said"]


def test_each_run_is_told_of_though_another_said_the_same(telling: World) -> None:
    site = telling.installation.site
    assert site is not None
    project, _ = stored_project(site.store, runs=2)
    with site.store.transaction() as session:
        session.add(Way(project_id=project, name="all", kind="request", shown="x", sealed=b"", always=True, by="Ada"))
        runs = session.scalars(sa.select(Run.id).where(Run.project_id == project).order_by(Run.number)).all()
    for run in (*runs, *runs, *runs):
        tell_ways(site, run)
    with site.store.transaction() as session:
        told = session.scalars(
            sa.select(Delivery.run).where(Delivery.project_id == project).order_by(Delivery.id)
        ).all()
    assert told == [1, 2]


@pytest.mark.parametrize(
    ("host", "reached"),
    [
        ("127.0.0.1", False),
        ("::1", False),
        ("::ffff:127.0.0.1", False),
        ("64:ff9b::7f00:1", False),
        ("10.0.0.1", False),
        ("2002:7f00:1::", False),
        ("224.0.0.1", False),
        ("169.254.169.254", False),
        ("0.0.0.0", False),
        ("8.8.8.8", True),
    ],
)
def test_no_way_of_writing_an_address_leads_inward(host: str, reached: bool) -> None:
    if reached:
        assert sending.place_of(host, 443) == host
        return
    with pytest.raises(sending.NotReachable):
        sending.place_of(host, 443)


@pytest.mark.parametrize(
    ("wish", "said"),
    [
        ({"kind": "mail", "to": ["Ada <a@x.example>"]}, "is no address for mail"),
        ({"kind": "mail"}, "mail goes to 1 to 50 addresses"),
        ({"url": "rooms.example"}, "the address is none"),
        ({"url": "https://rooms.example", "body": "{"}, "the body is no JSON"),
        ({"url": "https://rooms.example", "body": '"{nothing}"'}, "there is no value {nothing}"),
    ],
)
def test_a_way_that_cannot_be_gone_is_refused(telling: World, wish: dict, said: str) -> None:
    if not [p for p in telling.get("/projects") if p["name"] == "refuses"]:
        telling.repository("refuses", None)
    answer = telling.http.put("/projects/refuses/ways/one", json=wish)
    assert answer.status_code == 422 and said in answer.json()["detail"]
    assert telling.get("/projects/refuses/ways") == []


def test_a_receiver_that_does_not_answer_keeps_no_verdict_waiting(
    telling: World, rooms: tuple[Receiver, MailRoom]
) -> None:
    """Deliveries have workers of their own: nine that hang are more than both queues have."""
    requests, _ = rooms
    repo = telling.repository("hanging", None)
    for i in range(9):
        way(telling, "hanging", f"room-{i}", always=True, url=f"http://{requests.address}/hang/{i}")
    try:
        run = repo.pushed({"myriant.toml": PLAN, "report.xml": PASSES}, "first")
        assert run["run"]["verdict"] == "clear"
        assert all(r["state"] != "sent" for r in sent(telling, "hanging", count=9))
    finally:
        requests.let_go.set()
    for i in range(9):
        assert telling.http.delete(f"/projects/hanging/ways/room-{i}").status_code == 204


def test_the_morning_page_says_what_may_be_used_and_what_happened_and_is_sent_once(
    telling: World, rooms: tuple[Receiver, MailRoom]
) -> None:
    _, mails = rooms
    repo = telling.repository("dawn", None)
    plan = PLAN + '[events]\npush = {}\n[[events.schedule]]\nname = "nightly"\nevery = "day"\nat = "02:20"\n'
    good = repo.pushed({"myriant.toml": plan, "report.xml": PASSES}, "first")
    evening = datetime.now(UTC).isoformat()
    told = telling.get("/projects/dawn/morning", since=evening)
    assert (told["usable"], told["causes"], told["turned"]) == (True, [], []), told["said"]
    assert "1 of 1 test passed" in told["said"]
    assert [s["state"] for s in told["schedules"]] == ["comes"]
    repo.git("checkout", "-q", "-b", "beside")
    repo.commit({"report.xml": FAILS.format("aground")}, "Run it aground")
    repo.push("beside")
    assert repo.run_of(repo.git("rev-parse", "HEAD").strip())["run"]["verdict"] == "held"
    repo.git("checkout", "-q", "main")
    repo.pushed({"report.xml": FAILS.format("adrift")}, "Let it drift")
    told = telling.get("/projects/dawn/morning", since=evening)
    assert told["usable"] is False and told["last_clear"]["commit"] == good["run"]["commit"]
    assert [(c["title"], c["new"], c["run"], c["author"], c["taken"]) for c in told["causes"]] == [
        ("t › a", True, 3, "Ada Fen", "")
    ]
    assert [(t["context"], t["state"]) for t in told["turned"]] == [
        ("push to main", "held"),
        ("push to beside", "held"),
    ]
    now = telling.get("/projects/dawn/morning", since=datetime.now(UTC).isoformat())
    assert (now["turned"], now["still_held"], [c["new"] for c in now["causes"]]) == ([], 0, [False])
    said = telling.command("morning", "dawn")
    assert (
        said.returncode == 1 and said.stdout.startswith("No: ") and telling.command("morning", "none").returncode == 1
    )
    for wrong in ("noon", "weekday", "weekday 7 UTC", "day 07:30 Nowhere/Else"):
        wish = {"kind": "mail", "to": ["ada@tidewater.example"], "morning": wrong}
        assert telling.http.put("/projects/dawn/ways/dawn", json=wish).status_code == 422, wrong
    way(telling, "dawn", "dawn", kind="mail", to=["ada@tidewater.example"], morning="day 07:30 UTC")
    site = telling.installation.site
    assert site is not None
    mails.mails.clear()
    tomorrow = datetime.now(UTC) + timedelta(days=1)
    assert [tell_mornings(site, tomorrow + timedelta(minutes=m)) for m in (0, 0, 1)] == [1, 0, 0]
    rows = sent(telling, "dawn", "sent")
    assert [r["said"] for r in rows] == ["the morning page"], rows
    assert [str(m["Subject"]) for _, m in mails.mails] == ["[dawn] this morning: it may not be used"]
    way(telling, "dawn", "week", kind="mail", to=["ada@tidewater.example"], morning="monday 07:30 UTC", page="report")
    mails.mails.clear()
    assert tell_mornings(site, next(times_of("monday 07:30 UTC").after(datetime.now(UTC))))
    nothing_waits(telling, "dawn")
    assert "the report" in [r["said"] for r in sent(telling, "dawn", "sent")]
    report = next(m for _, m in mails.mails if str(m["Subject"]) == "[dawn] report of 7 days")
    files = {f.get_filename(): f.get_payload(decode=True) for f in report.walk() if f.get_filename()}
    assert (
        files["report.pdf"].startswith(b"%PDF-") and b"main: 2 runs in 7 days, 1 of them held" in files["report.html"]
    )
    telling.http.delete("/projects/dawn/ways/week")
    repo.pushed({"report.xml": PASSES}, "Float it")
    # what was once there, was mended and is there again is new
    noon = datetime.now(UTC).isoformat()
    repo.pushed({"report.xml": FAILS.format("adrift")}, "Let it drift again")
    [cause] = telling.get("/projects/dawn/morning", since=noon)["causes"]
    assert (cause["new"], cause["run"]) == (True, 5), cause
    repo.pushed({"report.xml": PASSES}, "Float it again")
    told = telling.get("/projects/dawn/morning", since=datetime.now(UTC).isoformat())
    assert told["usable"] is True and all(r["way"] == "dawn" for r in sent(telling, "dawn"))


NOTIFY = """[notify]
mail = { to = ["committers", "keepers@tidewater.example"], at = ["held"] }
webhook = [{ url-secret = "CHAT_HOOK", at = ["cleared", "released"] }]
"""
BEHIND = """[jobs.publish]
when = [{ branch = "main" }]
gated = true
[[jobs.publish.steps]]
command = "true"
"""


def test_the_plan_says_who_is_told_of_what(telling: World, rooms: tuple[Receiver, MailRoom]) -> None:
    requests, mails = rooms
    repo = telling.repository("planned", None)
    secret = {"value": f"http://{requests.address}/chat?key=opensesame"}
    telling.http.put("/projects/planned/secrets/CHAT_HOOK", json=secret)
    requests.came.clear()
    mails.mails.clear()
    repo.pushed({"myriant.toml": PLAN + BEHIND + NOTIFY, "report.xml": FAILS.format("adrift")}, "first")
    # what another branch writes into its plan tells nobody
    repo.git("checkout", "-q", "-b", "beside")
    other = NOTIFY.replace("keepers@tidewater.example", "strangers@elsewhere.example")
    repo.commit({"myriant.toml": PLAN + BEHIND + other, "report.xml": FAILS.format("aground")}, "Tell strangers")
    repo.push("beside")
    repo.run_of(repo.git("rev-parse", "HEAD").strip())
    repo.git("checkout", "-q", "main")
    sent(telling, "planned", "sent", count=4)  # authors too, as long as it is held
    repo.pushed({"report.xml": PASSES}, "Float it")
    requests.wait(2)
    sent(telling, "planned", "sent", count=6)
    assert [(p, b["news"]) for p, _, b in requests.came if "chat" in p] == [
        ("/chat?key=opensesame", "cleared"),
        ("/chat?key=opensesame", "released"),
    ]
    # who may have done it hears once the control run does not clear them
    assert sorted((str(m["Subject"]), sorted(to)) for to, m in mails.mails) == [
        (f"[planned] push to {branch} held: {title}", [who])
        for branch, title in (("beside", "Tell strangers"), ("main", "first"))
        for who in ("ada@fenmark.example", "keepers@tidewater.example")
    ]
    assert "opensesame" not in telling.http.get("/projects/planned/sent").text
    ways = telling.get("/projects/planned/ways")
    assert [(w["planned"], w["by"]) for w in ways] == [(True, "the plan")] * 2
    assert telling.http.delete(f"/projects/planned/ways/{ways[0]['name']}").status_code == 409
    repo.pushed({"myriant.toml": PLAN + BEHIND}, "Tell nobody")
    left = telling.get("/projects/planned/ways")
    assert [(w["planned"], w["on"]) for w in left] == [(False, False)] * 2 and sent(telling, "planned", count=6)
    repo.pushed({"myriant.toml": PLAN + BEHIND + NOTIFY}, "Tell them again")
    assert [w["on"] for w in telling.get("/projects/planned/ways")] == [True, True]
    repo.pushed({"myriant.toml": PLAN + BEHIND}, "Tell nobody again")
    for way_name in (w["name"] for w in left):
        assert telling.http.delete(f"/projects/planned/ways/{way_name}").status_code == 204
    assert telling.get("/projects/planned/ways") == []


OWNED = """
[notify.mail]
to = ["committers", "owners", "keepers@tidewater.example"]
at = ["held", "cleared"]
[[notify.owner]]
of = ["gates/**"]
who = ["gates@tidewater.example"]
[[notify.owner]]
of = ["t/gate_two", "**/*.lua"]
who = ["two@tidewater.example"]
"""


def by_two(one: str = "", two: str = "") -> str:
    return f"<testsuite name='t'><testcase name='gate_one'>{one}</testcase><testcase name='gate_two'>{two}</testcase></testsuite>"


def heard(mails: MailRoom, subject: str, count: int) -> list[list[str]]:
    """Who got the mails of a subject, once there are so many."""
    end = time.monotonic() + 90
    while True:
        found = [sorted(to) for to, m in mails.mails if subject in str(m["Subject"]).replace("\n", "")]
        if len(found) >= count or time.monotonic() > end:
            return found
        time.sleep(0.1)


def test_who_hears_is_who_can_act_and_those_that_the_control_run_clears_hear_nothing(
    telling: World, rooms: tuple[Receiver, MailRoom]
) -> None:
    _, mails = rooms
    mails.mails.clear()
    repo = telling.repository("owned", None)
    repo.pushed({"myriant.toml": PLAN + OWNED, "report.xml": by_two()}, "first")
    repo.git("config", "user.email", "tobias@fenmark.example")
    repo.commit({"gates/one.txt": "shut"}, "Shut it")
    repo.git("config", "user.email", "marisol@fenmark.example")
    repo.pushed({"report.xml": by_two(two="<failure message='adrift'/>")}, "Let it drift")
    assert heard(mails, "held: Let it drift", 2) == [
        ["gates@tidewater.example", "keepers@tidewater.example", "two@tidewater.example"],
        ["marisol@fenmark.example", "tobias@fenmark.example"],  # once the control run says the change
    ]
    repo.git("config", "user.email", "yuki@fenmark.example")
    repo.pushed({"report.xml": by_two()}, "Moor it")
    everybody = {"gates", "keepers", "two"}
    assert heard(mails, "cleared: Moor it", 1) == [
        sorted(
            [
                *(f"{w}@tidewater.example" for w in everybody),
                *(f"{w}@fenmark.example" for w in ("marisol", "tobias", "yuki")),
            ]
        )
    ]


@pytest.mark.parametrize(
    ("control", "verdict", "why"),
    [
        (None, "held", ""),
        ({}, "held", ""),
        ({"change": 1}, "held", ""),
        ({"change": 1, "world": 3}, "held", ""),
        ({"unsure": 1, "world": 1}, "held", ""),
        ({"world": 2}, "held", "the control run says world, not their change"),
        ({"world": 1, "chance": 1}, "held", "the control run says world and chance, not their change"),
        ({"change": 1}, "clear", "it is not held any more"),
    ],
)
def test_authors_are_told_unless_the_control_run_says_that_it_was_not_they(
    telling: World, control: dict[str, int] | None, verdict: str, why: str
) -> None:
    site = telling.installation.site
    assert site is not None
    project, _ = stored_project(site.store)
    with site.store.transaction() as session:
        run = session.scalars(sa.select(Run).where(Run.project_id == project)).one()
        run.verdict, run.measures = Verdict(verdict), Measures(control=control)
        found = Delivery(
            way_id=0,
            project_id=project,
            run=1,
            context="push main",
            subject=f"push main\n1\n0{AUTHORS}",
            said="",
            told=EXAMPLE,
            state="waiting",
            created_at=datetime.now(UTC),
        )
        assert cleared(session, found) == why
        assert not_yet(session, found) is (verdict == "held" and control is None)
        found.created_at -= timedelta(hours=1)
        assert not not_yet(session, found)
        found.subject = "push main\n1\n0"
        assert cleared(session, found) == "" and not not_yet(session, found)
        session.expunge_all()


OWNERS = Plan(
    Events(),
    (),
    (),
    owners=(Owner(("src/**",), ("a@x.example",)), Owner(("src/deep/**", "t/*"), ("b@x.example", "c@x.example"))),
)


@pytest.mark.parametrize(
    ("places", "who"),
    [
        ([], []),
        (["docs/a"], []),
        (["src/a"], ["a@x.example"]),
        (["src/deep/a"], ["b@x.example", "c@x.example"]),
        (["src/deep/a", "src/b", "src/c"], ["b@x.example", "c@x.example", "a@x.example"]),
        (["t/gate"], ["b@x.example", "c@x.example"]),
        (["t/gate/more"], []),
    ],
)
def test_the_last_owners_that_fit_are_whose_it_is(places: list[str], who: list[str]) -> None:
    assert owners_of(OWNERS, places) == who


def told_by_an_oracle(history: list[tuple[str, str, frozenset[str]]]) -> list[tuple[str, int, str]]:
    """What those who follow branches hear, by a few lines of its own: context, run, news."""
    found: list[tuple[str, int, str]] = []
    held: dict[str, frozenset[str] | None] = {}  # by context, what they know to fail; None: it is clear
    for number, (context, verdict, failing) in enumerate(history, 1):
        known = held.get(context)
        if verdict == "held" and known is None:
            found.append((context, number, "held"))
            held[context] = failing
        elif verdict == "held" and known is not None and not failing <= known:
            found.append((context, number, "held by more"))
            held[context] = failing
        elif verdict == "clear" and known is not None:
            found.append((context, number, "cleared"))
            held[context] = None
    return found


def test_of_two_hundred_runs_each_news_is_told_once_and_nothing_else(telling: World) -> None:
    site = telling.installation.site
    assert site is not None
    luck = random.Random(200)
    project, _ = stored_project(site.store, runs=0)
    with site.store.transaction() as session:
        for name, always in (("every", True), ("news", False)):
            sealed = seal(site.key(), project, as_sealed(name), json.dumps({"to": ["a@x.example"], "authors": True}))
            session.add(
                Way(project_id=project, name=name, kind="mail", shown="", sealed=sealed, always=always, by="", on=True)
            )
    history: list[tuple[str, str, frozenset[str]]] = []
    for number in range(1, 201):
        context = luck.choice(["push main", "push main", "push side", "pull-request 7"])
        verdict = luck.choice(["held", "held", "clear", "exempt"])
        failing = frozenset(luck.sample("abcd", luck.randint(1, 3))) if verdict == "held" else frozenset()
        history.append((context, verdict, failing))
        tell_ways(site, judged(site.store, project, number, context, verdict, failing))
        if luck.random() < 0.3:  # a task may run twice
            with site.store.view() as session:
                again = session.scalars(sa.select(Run.id).where(Run.project_id == project, Run.number == number)).one()
            tell_ways(site, again)
    told = as_json(Delivery.told)
    with site.store.view() as session:
        rows = session.execute(
            sa.select(Way.name, Delivery.context, Delivery.run, told["news"].astext, told["state"].astext)
            .join(Way, Way.id == Delivery.way_id)
            .where(Delivery.project_id == project)
            .order_by(Delivery.id)
        ).all()
    assert [tuple(r[1:4]) for r in rows if r[0] == "news"] == told_by_an_oracle(history)
    assert [(r[1], r[2], r[4]) for r in rows if r[0] == "every"] == [
        (context, number, verdict) for number, (context, verdict, _) in enumerate(history, 1)
    ]


def judged(store: Store, project: int, number: int, context: str, verdict: str, failing: frozenset[str]) -> int:
    """A run that was judged, with what fails in it; its id."""
    with store.transaction() as session:
        run = Run(
            project_id=project,
            number=number,
            event="push",
            context=context,
            branch="main",
            commit=f"{number:040x}",
            state="failed" if failing else "passed",
            verdict=verdict,
            sentence=f"{verdict} {number}",
            depth=number,
            author_mail="ada@fenmark.example",
            ended_at=datetime.now(UTC),
        )
        session.add(run)
        session.flush()
        cell = Cell(
            run_id=run.id, job="unit", job_title="unit", position=0, key="", values={}, wants=[], state="failed"
        )
        session.add(cell)
        session.flush()
        attempt = Attempt(
            cell_id=cell.id, number=1, state="failed", runner="", lease_digest="", lease_until=sa.func.now()
        )
        session.add(attempt)
        session.flush()
        cell.attempt_id = attempt.id
        session.add_all(
            Failure(attempt_id=attempt.id, test=i, outcome=int(Outcome.FAILED), message="", detail="", signature=s)
            for i, s in enumerate(sorted(failing))
        )
        return run.id


def test_a_rule_settles_on_the_main_branch_for_tags_and_new_branches_too(telling: World) -> None:
    site = telling.installation.site
    assert site is not None
    project, _ = stored_project(site.store, runs=0)
    for number, context in enumerate(["push main"] * 3 + ["push season", "tag v1", "push fresh"], 1):
        judged(site.store, project, number, context, "clear", frozenset())
    with site.store.transaction() as session:
        rows = session.scalars(sa.select(Run).where(Run.project_id == project).order_by(Run.number)).all()
        for row in rows[:4]:
            names = ("few", "own") if row.context == "push season" else ("few",)
            row.judged = tuple(RuleJudged(n, "tests.new", "at-most", "warn", 1, met=True) for n in names)
        rows[4].branch, rows[5].branch, rows[3].branch = "", "fresh", "season"
        session.flush()
        assert [judged_rules(session, row, ["few", "own"]) for row in (rows[2], rows[4], rows[5])] == [
            {"few": 2, "own": 0},
            {"few": 3, "own": 0},
            {"few": 3, "own": 0},
        ]
        rows[5].branch = "season"
        session.flush()
        assert judged_rules(session, rows[5], ["own"]) == {"own": 1}


def test_nobody_waits_for_what_authors_are_not_told_yet(telling: World) -> None:
    site = telling.installation.site
    assert site is not None
    project, _ = stored_project(site.store, runs=0)
    now = datetime.now(UTC)
    with site.store.transaction() as session:
        way_row = Way(project_id=project, name="w", kind="mail", shown="", sealed=b"", always=False, by="", on=False)
        session.add(way_row)
        session.flush()

        def add(subject: str, later: float = 0.0) -> int:
            row = Delivery(
                way_id=way_row.id,
                project_id=project,
                run=1,
                context="push main",
                subject=subject,
                said="",
                told=EXAMPLE,
                state="waiting",
                next_at=now + timedelta(seconds=later),
            )
            session.add(row)
            session.flush()
            return row.id

        authors, other = add(f"1{AUTHORS}", later=60), add("2", later=60)
        found = next_waiting(session, way_row.id, now)
        assert found is not None and found.id == other  # a retry of others keeps its place
        later = next_waiting(session, way_row.id, now + timedelta(seconds=61))
        assert later is not None and later.id == authors
        session.rollback()


def test_authors_hear_no_more_that_it_was_held_once_it_is_clear_again(telling: World) -> None:
    site = telling.installation.site
    assert site is not None
    project, _ = stored_project(site.store, runs=0)
    judged(site.store, project, 1, "push main", "held", frozenset("a"))
    judged(site.store, project, 2, "push side", "clear", frozenset())
    found = Delivery(
        project_id=project,
        run=1,
        context="push main",
        subject=f"1{AUTHORS}",
        told=EXAMPLE,
        created_at=datetime.now(UTC),
    )
    with site.store.view() as session:
        assert cleared(session, found) == ""
    judged(site.store, project, 3, "push main", "clear", frozenset())
    with site.store.view() as session:
        assert cleared(session, found) == "it is clear again since #3"


def test_a_receiver_that_is_away_for_an_hour_hears_everything_in_order_and_knows_what_is_repeated(
    telling: World, rooms: tuple[Receiver, MailRoom], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Simulated time: it does not answer for an hour, then loses one answer on its way; nothing is lost or disordered."""
    requests, _ = rooms
    site = telling.installation.site
    assert site is not None
    project_id, _attempts = stored_project(site.store, runs=12)
    monkeypatch.setenv("MYRIANT_TELL_TO", requests.address)
    begin = datetime.now(UTC) + timedelta(days=2)  # the real worker looks at none of it before
    wish = {"url": f"http://{requests.address}/hour", "method": "POST", "headers": {}, "body": '{"n": "{number}"}'}
    with site.store.transaction() as session:
        sealed = seal(site.key(), project_id, as_sealed("hour"), json.dumps(wish))
        made = Way(project_id=project_id, name="hour", kind="request", shown="", sealed=sealed, always=True, by="x")
        session.add(made)
        session.flush()
        way_id = made.id
        for number in range(1, 13):
            session.add(
                Delivery(
                    way_id=way_id,
                    project_id=project_id,
                    run=number,
                    context="push main",
                    subject=f"{number}",
                    said="",
                    told=replace(EXAMPLE, number=number, news=""),
                    state="waiting",
                    next_at=begin + timedelta(minutes=4 * number),
                )
            )
    requests.came.clear()
    away, lost = (503, {}, b"away"), (500, {}, b"it was taken, and the answer is lost")
    for minute in range(0, 200):
        now = begin + timedelta(minutes=minute)
        requests.answers[:] = (
            [away] if minute < 60 else [lost, (200, {}, b"taken")] if minute == 60 else [(200, {}, b"")]
        )
        for second in (0, 20, 40):
            deliver(site, way_id, now + timedelta(seconds=second))
    told = [(body["n"], headers["Idempotency-Key"]) for path, headers, body in requests.came if path == "/hour"]
    taken = list(dict.fromkeys(told))
    assert [n for n, _ in taken] == list(range(1, 13)) and len({key for _, key in taken}) == 12
    assert [n for n, _ in told] == sorted(n for n, _ in told) and told.count(
        taken[0]
    ) > 5  # a repeat bears the same name
    with site.store.transaction() as session:
        rows = session.scalars(sa.select(Delivery).where(Delivery.way_id == way_id).order_by(Delivery.id)).all()
        assert {r.state for r in rows} == {"sent"} and max(r.tries for r in rows) <= sending.MOST_TRIES
    requests.answers[:] = [(200, {}, b"")]


def test_what_needs_a_person_is_told_once_where_news_is_told(telling: World, rooms: tuple[Receiver, MailRoom]) -> None:
    """An approval that is wanted, a cell that no runner takes, housekeeping that failed: each once, on ways of news."""
    requests, _ = rooms
    repo = telling.repository("needs", None)
    body = '{"news": "{news}", "said": "{sentence}", "at": "{address}"}'
    for name, always in (("news", False), ("all", True)):
        way(telling, "needs", name, always=always, url=f"http://{requests.address}/{name}-needs", body=body)
    plan = (
        PLAN + '[jobs.ship]\ngated = true\napproval = { by = ["maintainer"] }\n[[jobs.ship.steps]]\ncommand = "true"\n'
        '[jobs.sweep]\nhousekeeping = true\n[[jobs.sweep.steps]]\nname = "sweep"\ncommand = "exit 3"\n'
        '[jobs.lift]\nrunner = ["crane"]\nhousekeeping = true\n[[jobs.lift.steps]]\ncommand = "true"\n'
        '[[events.schedule]]\nname = "tidy"\nevery = "day"\nat = "03:10"\njobs = ["sweep", "lift"]\n[events.push]\n'
    )
    repo.pushed({"myriant.toml": plan, "report.xml": PASSES}, "first")
    for job in ("sweep", "lift"):
        telling.http.post("/projects/needs/runs", json={"ref": "main", "jobs": [job]})
    site = telling.installation.site
    assert site is not None

    def told() -> list[str]:
        return sorted(b["said"] for p, _, b in requests.came if p == "/news-needs" and b["news"] == "attention")

    end = time.monotonic() + 60
    while len(told()) < 3 and time.monotonic() < end:
        tell_notices(site, datetime.now(UTC) + timedelta(minutes=6), all_of_it=True)
        time.sleep(0.3)
    assert tell_notices(site, datetime.now(UTC) + timedelta(minutes=7), all_of_it=True) == 0
    sweep, lift, ship = told()
    assert sweep.startswith("Housekeeping sweep did not end well in #2") and "approval until" in ship
    assert lift == "lift of #3 waits for a runner: no runner has the label crane."
    assert not [b for p, _, b in requests.came if p == "/all-needs" and b["news"] == "attention"]
    runs = {job: {r["run"] for r in sent(telling, "needs", "sent") if job in r["said"]} for job in ("sweep", "lift")}
    assert runs == {"sweep": {2}, "lift": {3}}, "each stands with the run that it is about"


def test_each_hears_what_and_when_they_want_and_nothing_twice(telling: World, rooms: tuple[Receiver, MailRoom]) -> None:
    """One hears nothing, one what may be theirs, one in the morning, one not now, and one asked for everything."""
    _, mails = rooms
    repo = telling.repository("wished", None)
    named = [f"{who}@fenmark.example" for who in ("never", "mine", "morning", "asleep", "plain")]
    way(telling, "wished", "people", kind="mail", to=named)
    way(telling, "wished", "others", kind="mail", to=[named[4]])  # who is named twice
    now = datetime.now(UTC)
    quiet = f"{now - timedelta(hours=1):%H:%M}-{now + timedelta(hours=2):%H:%M}"
    wishes = {
        named[0]: {"wants": "nothing"},
        named[1]: {"wants": "mine"},
        named[2]: {"wants": "all", "gathered": "day 07:30"},
        named[3]: {"wants": "all", "quiet": quiet},
        "asked@fenmark.example": {"wants": "all"},
    }
    for address, wish in wishes.items():
        answer = telling.http.put(f"/projects/wished/hearers/{address}", json=wish)
        assert answer.status_code == 204, answer.text
    for address, wish in (("no address", {}), (named[0], {"quiet": "at night"}), (named[0], {"gathered": "07:30"})):
        refused = telling.http.put(f"/projects/wished/hearers/{address}", json=wish)
        assert refused.status_code == 422 and "write for example" in refused.text
    asked = "/projects/wished/ways/people: asked"
    assert telling.http.delete(asked).status_code == 409  # somebody asked for it
    way(telling, "wished", "asked", url="http://127.0.0.1:22/", on=False)  # a name of the settings' own
    tried = telling.http.post(f"{asked}/try").json()
    assert tried["said"] == "taken for 3 of 3", tried
    subject, text = mails.mails[-1][1]["Subject"], mails.mails[-1][1].as_string()
    assert "A try: nothing has happened" in subject and "A try, nothing has happened" in text, "and is not held"
    morning = {"kind": "mail", "to": named[:2], "morning": "day 07:30"}
    way(telling, "wished", "pages", **morning)
    mails.mails.clear()

    def heard() -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for to, mail in mails.mails:
            for address in to if str(mail["Subject"]).startswith("[wished]") else ():
                found.setdefault(address.split("@")[0], []).append(str(mail["Subject"]).removeprefix("[wished] "))
        return found

    repo.pushed({"myriant.toml": PLAN, "report.xml": FAILS.format("adrift")}, "first")
    sent(telling, "wished", "sent", count=2)
    nothing_waits(telling, "wished")
    repo.pushed({"report.xml": PASSES}, "Float it")
    sent(telling, "wished", "sent", count=4)
    nothing_waits(telling, "wished")
    told = ["push to main held: first", "push to main cleared: Float it"]
    assert heard() == {"plain": told, "asked": told}
    kept = {h["address"]: h["kept"] for h in telling.get("/projects/wished/hearers")}
    assert [kept[n] for n in named[:4]] == [0, 0, 2, 2]
    assert "kept for" in " ".join(r["answer"] for r in telling.get("/projects/wished/sent"))
    # when it is no longer quiet, and in the morning: one mail each with all of it, once
    site = telling.installation.site
    assert site is not None
    for hours in (3, 3, 25, 25):
        tell_gathered(site, now + timedelta(hours=hours))
    gathered = "2 pieces of news, nothing is held"
    end = time.monotonic() + 60
    while not (heard().get("morning") and heard().get("asleep")) and time.monotonic() < end:
        time.sleep(0.1)
    nothing_waits(telling, "wished")
    assert heard() == {"plain": told, "asked": told, "asleep": [gathered], "morning": [gathered]}
    text = mails.mails[-1][1].get_body(("plain",)).get_content()  # type: ignore[attr-defined]
    assert "- push main: cleared by #2." in text and "Before that: held by #1." in text
    # what was told so is told no more with what comes later
    repo.pushed({"report.xml": FAILS.format("aground")}, "Run aground")
    end = time.monotonic() + 60
    while not [r for r in telling.get("/projects/wished/hearers") if r["kept"]] and time.monotonic() < end:
        time.sleep(0.1)
    nothing_waits(telling, "wished")
    tell_gathered(site, now + timedelta(hours=73))
    while len(heard()["morning"]) < 2 and time.monotonic() < end:
        time.sleep(0.1)
    assert heard()["morning"] == [gathered, "1 piece of news, 1 branch or pull request held"]
    # who wants to hear nothing gets no morning page either
    mails.mails.clear()
    tell_mornings(site, now + timedelta(days=2))
    while not heard() and time.monotonic() < end + 60:
        time.sleep(0.1)
    assert list(heard()) == ["mine"]
    assert telling.http.delete(f"/projects/wished/hearers/{named[0]}").status_code == 204
    assert telling.http.delete(f"/projects/wished/hearers/{named[0]}").status_code == 404
