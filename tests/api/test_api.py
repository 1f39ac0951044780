"""The API's edges: problem details, live events, files, limits."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator

import httpx
import pytest

from myriant.flow.admin.filters import MOST as MOST_FILTERS
from myriant.flow.views import past
from myriant.flow.views.past import search_logs
from worlds import PLAN, Repository, World, junit, writes

GREEN = writes(junit(a="passed"))


@pytest.fixture(scope="module")
def repo(world: World) -> Repository:
    made = world.repository("edges", PLAN.replace('["5.1", "5.4"]', '["5.4"]'), test__sh=GREEN)
    for i in range(4):
        made.pushed({"n": str(i)}, f"commit {i}")
    return made


@pytest.mark.parametrize(
    ("path", "status", "said"),
    [
        ("/projects/none", 404, "there is no project 'none'"),
        ("/projects/edges/runs/999", 404, "edges has no run #999"),
        ("/projects/edges/runs/x", 422, "number"),
        ("/projects/edges/runs/1/findings?base=999", 404, "no run #999"),
        ("/projects/edges/strip?limit=0", 422, "limit"),
        ("/attempts/999999", 404, "no attempt 999999"),
        ("/attempts/999999/log", 404, "no attempt 999999"),
        ("/reports/999999/raw", 404, "no report 999999"),
        ("/nothing", 404, "there is nothing at /api/v1/nothing"),
    ],
)
def test_every_error_is_a_problem_with_its_words(
    world: World, repo: Repository, path: str, status: int, said: str
) -> None:
    answer = world.http.get(path)
    assert answer.status_code == status and answer.headers["content-type"] == "application/problem+json"
    problem = answer.json()
    assert said in problem["detail"] and problem["status"] == status and problem["type"].startswith("/problems/")


@pytest.mark.parametrize(
    ("wish", "status", "said"),
    [
        ({"page": "runs", "name": "Held at night", "query": "verdict=held&event=schedule"}, 204, ""),
        ({"page": "tests", "name": "Held at night", "query": "state=new"}, 204, ""),  # another page's, of the same name
        ({"page": "runs", "name": " Held at night ", "query": "verdict=held"}, 204, ""),  # replaced
        ({"page": "desk", "name": "x", "query": "a=b"}, 422, "'desk' has no filters"),
        ({"page": "runs", "name": "  ", "query": "a=b"}, 422, "a filter has a name"),
        ({"page": "runs", "name": "x", "query": " "}, 422, "something that it looks for"),
        ({"page": "runs", "name": "x\ny", "query": "a=b"}, 422, "name"),
        ({"page": "runs", "name": "x" * 81, "query": "a=b"}, 422, "name"),
    ],
)
def test_filters_are_kept_by_page_and_name(
    world: World, repo: Repository, wish: dict[str, str], status: int, said: str
) -> None:
    answer = world.http.put("/projects/edges/filters", json=wish)
    assert answer.status_code == status and said in (answer.text and answer.json()["detail"])
    kept = {(f["page"], f["name"]): f for f in world.get("/projects/edges/filters")}
    if status == 204:
        found = kept[wish["page"], wish["name"].strip()]
        assert found["query"] == wish["query"] and found["by"] == "admin"
    assert set(kept) <= {("runs", "Held at night"), ("tests", "Held at night")}


def test_a_filter_is_given_up_once_and_a_project_keeps_so_many(world: World, repo: Repository) -> None:
    for n in range(MOST_FILTERS - len(world.get("/projects/edges/filters"))):
        wish = {"page": "failures", "name": f"filter {n}", "query": f"text={n}"}
        assert world.http.put("/projects/edges/filters", json=wish).status_code == 204
    beyond = {"page": "failures", "name": "one more", "query": "text=x"}
    assert world.http.put("/projects/edges/filters", json=beyond).status_code == 409
    gone = {"page": "failures", "name": "filter 3"}
    assert [world.http.delete("/projects/edges/filters", params=gone).status_code for _ in range(2)] == [204, 404]
    assert world.http.put("/projects/edges/filters", json=beyond).status_code == 204


def test_the_strip_is_read_page_by_page_without_a_gap_or_a_repeat(world: World, repo: Repository) -> None:
    newest = world.get("/projects/edges/strip", limit=2)
    numbers = [c["run"]["number"] for c in newest["columns"]]
    assert newest["more"] is True and numbers == [4, 5]
    older = world.get("/projects/edges/strip", limit=2, before=numbers[0])
    oldest = world.get("/projects/edges/strip", limit=2, before=older["columns"][0]["run"]["number"])
    assert [c["run"]["number"] for c in older["columns"]] == [2, 3]
    assert [c["run"]["number"] for c in oldest["columns"]] == [1] and oldest["more"] is False
    assert newest["branches"] == ["main"] and newest["lanes"] == [{"job": "unit", "title": "unit", "keys": ["lua=5.4"]}]


def test_commits_pushed_together_leave_a_visible_gap(world: World, repo: Repository) -> None:
    repo.commit({"a": "1"})
    repo.commit({"a": "2"})
    repo.pushed({"a": "3"})
    assert (
        world.get("/projects/edges/strip", limit=1)["columns"][0]["gap"] == 0
    )  # a page's first column has no neighbour
    assert world.get("/projects/edges/strip", limit=2)["columns"][1]["gap"] == 2


def test_a_report_is_downloaded_as_it_came_and_never_shown_as_a_page(world: World, repo: Repository) -> None:
    run = world.get("/projects/edges/runs/1")
    [report] = world.get(f"/attempts/{run['cells'][0]['attempt_id']}")["reports"]
    answer = world.http.get(f"/reports/{report['id']}/raw")
    assert answer.text.strip() == junit(a="passed") and len(answer.content) == report["size"]
    assert answer.headers["content-disposition"] == 'attachment; filename="unit.xml"'
    assert answer.headers["x-content-type-options"] == "nosniff"


def test_a_log_is_read_in_pieces(world: World, repo: Repository) -> None:
    run = repo.pushed({"test.sh": "seq 1 1000\n" + GREEN})
    attempt = run["cells"][0]["attempt_id"]
    whole = world.http.get(f"/attempts/{attempt}/log")
    assert whole.text == "".join(f"{i}\n" for i in range(1, 1001)) and whole.headers["x-log-complete"] == "yes"
    raw = world.http.get(f"/attempts/{attempt}/log/raw")
    assert raw.text == whole.text and "attachment" in raw.headers["content-disposition"]
    piece = world.http.get(f"/attempts/{attempt}/log", params={"start": 1000, "most": 17})
    assert piece.text == whole.text[1000:1017] and piece.headers["x-log-size"] == str(len(whole.text))
    assert world.http.get(f"/attempts/{attempt}/log", params={"start": 10**9}).text == ""


def test_logs_of_all_runs_are_searched_newest_first_and_as_far_as_time_allows(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    plan = PLAN.replace('["5.1", "5.4"]', '["5.3", "5.4"]')
    repo = world.repository("printed", plan, test__sh="echo begin\necho Slack Water at nine\n" + GREEN)
    repo.pushed({"test.sh": "echo begin\nfor i in 1 2 3; do echo slack water at $i; done\n" + GREEN})
    repo.pushed({"test.sh": "echo nothing of that\n" + GREEN})
    site = world.site
    whole = search_logs(site, "printed", " slack WATER ", 30, None)
    assert [(f.run, f.line, f.lines, f.text, f.state) for f in whole.found] == [
        *[(2, 2, 3, "slack water at 1", "passed")] * 2,
        *[(1, 2, 1, "Slack Water at nine", "passed")] * 2,
    ]
    assert {f.key for f in whole.found} == {"lua=5.3", "lua=5.4"} and whole.before is None
    assert whole.said == "“slack WATER” stands in 4 logs; 6 logs of the last 30 days searched."
    assert search_logs(site, "printed", "ebb tide", 30, None).said.startswith("“ebb tide” stands nowhere; 6 logs of")
    monkeypatch.setattr(past, "SEARCH_SECONDS", 0.0)
    found, before, asked = [], None, 0
    while asked == 0 or before is not None:
        part = search_logs(site, "printed", "slack water", 30, before)
        found, before, asked = [*found, *part.found], part.before, asked + 1
    assert found == whole.found and asked == 6
    monkeypatch.setattr(past, "MOST_SEARCHED", 4)
    part = search_logs(site, "printed", "slack water", 30, None)
    assert part.said.endswith("1 log of 6, back to #3 searched.") and part.before is not None
    answer = world.http.get("/projects/printed/logs", params={"text": "sl"})
    assert answer.status_code == 422 and "3 letters" in answer.json()["detail"]
    assert len(world.get("/projects/printed/logs", text="slack water at 1")["found"]) == 2


def events(answer: httpx.Response) -> Iterator[tuple[int, dict[str, object]]]:
    number = 0
    for line in answer.iter_lines():
        if line.startswith("id: "):
            number = int(line[4:])
        elif line.startswith("data: ") and number:
            yield number, json.loads(line[6:])
            number = 0


def test_a_reconnecting_browser_is_told_what_it_missed(world: World, repo: Repository) -> None:
    with world.http.stream("GET", "/live", headers={"Last-Event-ID": "0"}) as answer:
        last = 0
        for last, _ in events(answer):
            if last > 3:
                break
    number = repo.pushed({"b": "1"})["run"]["number"]
    with world.http.stream("GET", "/live", headers={"Last-Event-ID": "1000000000"}) as answer:
        assert answer.headers["content-type"].startswith("text/event-stream")
    with world.http.stream("GET", "/live", headers={"Last-Event-ID": str(last)}) as answer:
        for _, change in events(answer):
            if change == {"kind": "run", "project": "edges", "run": number}:
                return
    raise AssertionError("the change was not replayed")


def test_pages_carry_their_safety_headers_and_no_file_of_the_machine_is_served(world: World) -> None:
    bare = httpx.Client(base_url=world.address)
    page = bare.get("/p/anything")
    assert page.status_code == 200 and '<div id="root">' in page.text
    assert (
        "default-src 'self'" in page.headers["content-security-policy"]
        and page.headers["x-content-type-options"] == "nosniff"
    )
    for path in (
        "/../../pyproject.toml",
        "/%2e%2e/%2e%2e/pyproject.toml",
        "/assets/..%2f..%2f..%2f..%2f..%2fetc%2fpasswd",
    ):
        assert "root:x" not in bare.get(path).text and "[project]" not in bare.get(path).text


def test_the_description_is_complete_and_titles_are_left_to_the_routes(world: World) -> None:
    described = world.http.get("/openapi.json").json()
    operations = [o for p in described["paths"].values() for o in p.values()]
    assert described["openapi"].startswith("3.1") and len(operations) >= 20
    assert all("operationId" in o and "summary" not in o for o in operations)


def test_a_runner_of_another_protocol_is_told_to_upgrade(world: World) -> None:
    headers = {"Authorization": f"Bearer {world.installation.parts.environment['MYRIANT_RUNNER_TOKEN']}"}
    told = {"protocol": 99, "name": "old", "slots": 1, "isolation": "", "version": "0", "boot": "x", "runtimes": []}
    answer = world.http.post("/runners", json=told, headers=headers)
    assert answer.status_code == 409 and "speaks runner protocol 1, the runner 99" in answer.json()["detail"]
    assert world.http.post("/runners", json=told | {"slots": 0}, headers=headers).status_code == 422


def test_what_screens_ask_for_is_compressed_for_who_takes_it(world: World) -> None:
    world.repository("smaller", None)
    for taken, coding in (("gzip", "gzip"), ("identity", None)):
        answer = world.http.get("/projects", headers={"Accept-Encoding": taken})
        assert answer.status_code == 200 and answer.json()
        assert len(answer.content) < 2048 or answer.headers.get("content-encoding") == coding
    root = world.address
    page = httpx.get(f"{root}/").text
    asset = re.search(r'src="(/assets/[^"]+\.js)"', page)
    assert asset is not None
    plain = httpx.get(root + asset[1], headers={"Accept-Encoding": "identity"})
    for coding in ("br", "gzip"):
        with httpx.stream("GET", root + asset[1], headers={"Accept-Encoding": coding}) as answer:
            raw = b"".join(answer.iter_raw())
            assert answer.headers["content-encoding"] == coding and answer.headers["vary"] == "Accept-Encoding"
            assert len(raw) < len(plain.content) / 2 and "immutable" in answer.headers["cache-control"]
