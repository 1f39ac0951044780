"""From failures to causes: findings over real runs, quarantine, searches, moved tests, analysis, exports, sending."""

from __future__ import annotations

import csv
import io
import json
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.parquet as pq
import pytest
from sqlalchemy import select

from myriant.core.results.identity import Identity
from myriant.core.results.junit import read_junit
from myriant.core.results.model import Outcome
from myriant.flow.conclude.learning import settle_quarantines
from myriant.flow.diagnose.flakes import flakes_of
from myriant.flow.views.findings.causes import MOST_FINDINGS
from myriant.flow.views.tests import grid
from myriant.flow.views.tests.grid import Wanted, grid_of_tests
from myriant.store.chance import failed_in
from myriant.store.results import NotPassed, keep_results
from myriant.store.results import test_numbers as numbers_of
from myriant.store.tables import Project, Quarantine, Run
from waiting import until
from worlds import PLAN, Repository, World, junit, stored_project, writes

pytestmark = pytest.mark.long

FOUR = PLAN.replace('["5.1", "5.4"]', '["5.1", "5.2", "5.3", "5.4"]')


def case(name: str, failure: str = "", text: str = "", klass: str = "tides.gauge") -> str:
    inner = f'><failure message="{failure}">{text}</failure></testcase>' if failure else "/>"
    return f'<testcase classname="{klass}" name="{name}" time="0.02"{inner}'


def by_lua(**reports: str) -> str:
    """A test.sh whose report depends on the version of Lua: v51="<testcase…", rest="…"."""
    branches = "".join(
        f"{key[1]}.{key[2]}) cat > out/unit.xml <<'END'\n<testsuite name=\"s\">{body}</testsuite>\nEND\n;;\n"
        for key, body in reports.items()
        if key != "rest"
    )
    rest = f"*) cat > out/unit.xml <<'END'\n<testsuite name=\"s\">{reports['rest']}</testsuite>\nEND\n;;\n"
    return f'mkdir -p out\ncase "$MYRIANT_CELL_LUA" in\n{branches}{rest}esac\n'


@pytest.fixture(scope="module")
def tangled(world: World) -> tuple[Repository, dict[str, Any]]:
    """A run with three causes over four cells: two tests by one exception, one in every cell, one assertion."""
    repo = world.repository(
        "tangle", FOUR, **{"gauge.lua": "return 1\n" * 20, "test.sh": by_lua(rest="".join(map(case, "abcd")))}
    )
    stack = "  File &quot;/workspace/gauge.lua&quot;, line 7, in read"
    old = case("a", "GaugeError: no gauge at 17 m", stack) + case("b", "GaugeError: no gauge at 4 m", stack)
    always = case("c", "FATAL: database &quot;logbook&quot; does not exist")
    changed = repo.pushed(
        {
            "test.sh": by_lua(
                v51=old + always + case("d"), rest=case("a") + case("b") + always + case("d", "assert 4 == 3")
            ),
            "gauge.lua": "return 2\n" * 20,
        },
        "Read the gauge another way",
    )
    return repo, changed


def test_failures_are_grouped_by_cause_with_where_what_and_since_when(
    tangled: tuple[Repository, dict[str, Any]],
) -> None:
    repo, run = tangled
    found = repo.findings(run)
    told = {f["headline"]: f for f in found["findings"]}
    assert len(told) == 3 and found["tests"]["new"] == 4
    gauge = next(f for h, f in told.items() if h.startswith("GaugeError"))
    assert (gauge["where"], gauge["missed"], len(gauge["tests"]), gauge["exception"]) == ("lua=5.1", 0, 2, "GaugeError")
    assert gauge["places"][0] == {"file": "gauge.lua", "line": 7, "name": "read"} and "same" in gauge["because"]
    assert gauge["first_seen"]["number"] == run["run"]["number"] and gauge["seen"] == 1
    database = next(f for h, f in told.items() if h.startswith("FATAL"))
    assert database["told"]["name"] == "database unknown" and "no database logbook" in database["told"]["say"]
    assert database["where"] is None and len(database["cells"]) == 4
    value = next(f for h, f in told.items() if h.startswith("assert"))
    assert (value["expected"], value["actual"], value["where"]) == ("3", "4", "lua>=5.2")


def test_what_changed_since_it_passed_names_the_commit_and_why(tangled: tuple[Repository, dict[str, Any]]) -> None:
    repo, run = tangled
    gauge = next(f for f in repo.findings(run)["findings"] if f["exception"] == "GaugeError")
    test = gauge["tests"][0]["test"]
    changed = repo.world.get(f"/projects/{repo.name}/runs/{run['run']['number']}/tests/{test}/changes")
    assert changed["last_passed"] == run["run"]["number"] - 1
    assert changed["commits"][0]["title"] == "Read the gauge another way"
    assert changed["commits"][0]["because"] == ["changed gauge.lua, which the stack names"]
    source = repo.world.http.get(
        f"/projects/{repo.name}/file", params={"commit": run["tested"], "path": "gauge.lua"}
    ).json()
    assert source["text"].startswith("return 2") and not source["cut"]


def test_the_tests_of_a_run_are_told_with_a_mark_for_each_cell_and_what_is_hidden(
    tangled: tuple[Repository, dict[str, Any]],
) -> None:
    repo, run = tangled
    path = f"/projects/{repo.name}/runs/{run['run']['number']}/tests"
    page = repo.world.get(path)
    assert (page["total"], page["shown"]) == (4, 4)
    assert {r["name"]: r["marks"] for r in page["rows"]} == {"a": "nppp", "b": "nppp", "c": "nnnn", "d": "pnnn"}
    assert repo.world.get(path, state="all", search="GAUGE tid")["shown"] == 4
    assert repo.world.get(path, state="all", search="gauge nowhere")["shown"] == 0
    assert repo.world.get(path, cell="unit/lua=5.1")["shown"] == 3
    assert repo.world.get(path, state="all", slower_than=1)["shown"] == 0
    one = repo.world.get(f"/projects/{repo.name}/tests/{page['rows'][0]['test']}")
    assert [r["outcome"] for r in one["results"]].count("failed") == 1 and one["failures"][0]["runs"] == 1
    assert repo.world.http.get(f"{path}?state=odd").status_code == 422


def test_results_are_exported_whole_as_junit_csv_and_parquet(tangled: tuple[Repository, dict[str, Any]]) -> None:
    repo, run = tangled
    path = f"/projects/{repo.name}/runs/{run['run']['number']}/results"
    merged = read_junit([repo.world.http.get(f"{path}.xml").content])
    assert merged.error is None and len(merged) == 16 and merged.properties["lua"] == "5.1"
    rows = list(csv.DictReader(io.StringIO(repo.world.http.get(f"{path}.csv").text)))
    table = pq.read_table(io.BytesIO(repo.world.http.get(f"{path}.parquet").content)).to_pylist()
    assert len(rows) == len(table) == 16
    assert sorted((r["cell"], r["name"], r["outcome"]) for r in rows) == sorted(
        (r["cell"], r["name"], r["outcome"]) for r in table
    )
    assert repo.world.http.get(f"{path}.pdf").status_code == 404


def test_a_quarantined_test_is_recorded_and_holds_nothing_until_it_is_taken_back(world: World) -> None:
    repo = world.repository("quarantine", PLAN, **{"test.sh": writes(junit(a="passed", b="passed"))})
    held = repo.pushed({"test.sh": writes(junit(a="passed", b="expected 1, got 2"))})
    assert held["run"]["verdict"] == "held"
    [finding] = repo.findings(held)["findings"]
    until = (datetime.now(UTC) + timedelta(days=7)).isoformat()
    wish = {"tests": [finding["tests"][0]["test"]], "reason": "the gauge drifts", "owner": "Ingrid", "until": until}
    path = f"/projects/{repo.name}/quarantines"
    for wrong in ({"reason": " "}, {"until": "2020-01-01T00:00:00Z"}, {"tests": [99_999]}, {"tests": []}):
        assert world.http.post(path, json=wish | wrong).status_code in (404, 422)
    [kept] = world.http.post(path, json=wish).json()
    assert world.http.post(path, json=wish).status_code == 409
    clear = repo.pushed({"more.txt": "more"})
    assert clear["run"]["verdict"] == "clear" and {c["mark"] for c in clear["cells"]} == {"quarantined"}
    assert repo.findings(clear)["tests"]["quarantined"] == 1
    [flaky] = world.get(f"/projects/{repo.name}/flaky")["tests"]
    assert flaky["quarantine"]["reason"] == "the gauge drifts"
    assert world.http.delete(f"{path}/{kept['id']}?why=mended").status_code == 200
    assert repo.pushed({"more.txt": "again"})["run"]["verdict"] == "held"
    assert world.get(f"/projects/{repo.name}/flaky")["ended"][0]["ended_why"].endswith("mended")


MARKS = {".": Outcome.ABSENT, "p": Outcome.PASSED, "f": Outcome.FAILED, "s": Outcome.SKIPPED, "x": Outcome.FLAKY}
HISTORIES = [  # of four cells over five runs; then how often it was odd alone and within an attempt
    ("a lone failure", ("pfppp", "ppppp", "ppppp", "ppppp"), 1, 0),
    ("lone failures of two cells", ("pfppp", "pppfp", "ppppp", "ppppp"), 2, 0),
    ("new in its first failing run", (".fppp", "ppppp", "ppppp", "ppppp"), 0, 0),
    ("put right at once, everywhere", ("pfppp", "pfppp", "pfppp", "ppppp"), 0, 0),
    ("failed twice running", ("pffpp", "ppppp", "ppppp", "ppppp"), 0, 0),
    ("beside a skip", ("sfppp", "ppfsp", "ppppp", "ppppp"), 0, 0),
    ("mixed within an attempt", ("pxppp", "ppppx", "ppppp", "ppppp"), 0, 2),
    ("still failing", ("ppppf", "ppppp", "ppppp", "ppppp"), 0, 0),
]


def test_only_outcomes_that_no_change_explains_speak_for_chance(world: World) -> None:
    site = world.site
    owner, attempts = stored_project(site.store, runs=5, cells=4)
    tests: list[Identity] = [("unit", "", "", title) for title, *_ in HISTORIES]
    with site.store.transaction() as session:
        name = session.get_one(Project, owner).name
        numbers = numbers_of(session, owner, "unit", tests)
        for at, attempt in enumerate(attempts):
            run, cell = divmod(at, 4)
            outcomes = np.array([MARKS[h[1][cell][run]] for h in HISTORIES], np.uint8)
            there = np.flatnonzero(outcomes)
            bad = [
                NotPassed(int(numbers[i]), Outcome(outcomes[i]), "m", "", None) for i in np.flatnonzero(outcomes > 1)
            ]
            keep_results(session, attempt, numbers[there], outcomes[there], np.full(len(there), 0.1), bad)
    told = {f.title: (f.alone, f.retested) for f in flakes_of(site, name).tests}
    assert told == {title: (alone, within) for title, _, alone, within in HISTORIES if alone or within}


@pytest.mark.parametrize(
    ("runs", "failed_in", "why"), [(149, None, "it proved steady: 149"), (149, 90, ""), (140, None, "")]
)
def test_a_quarantine_ends_once_its_test_has_proved_steady(
    world: World, runs: int, failed_in: int | None, why: str
) -> None:
    site = world.site
    owner, attempts = stored_project(site.store, runs=runs)
    with site.store.transaction() as session:
        project = session.get_one(Project, owner)
        numbers = numbers_of(session, owner, "unit", [("unit", "", "", "drifts")])
        for n, attempt in enumerate(attempts, 1):
            outcome = Outcome.FAILED if n == failed_in else Outcome.PASSED
            bad = [NotPassed(int(numbers[0]), outcome, "m", "", None)] if n == failed_in else []
            keep_results(session, attempt, numbers, np.array([outcome], np.uint8), np.array([0.1]), bad)
        now = datetime.now(UTC)
        held = Quarantine(
            project_id=owner,
            test=int(numbers[0]),
            reason="it drifts",
            owner="ada",
            by="ada",
            at=now - timedelta(days=9),
            until=now + timedelta(days=9),
        )
        session.add(held)
        session.flush()
        newest = session.scalars(select(Run).where(Run.project_id == owner, Run.number == runs)).one()
        settle_quarantines(session, project, newest)
        session.flush()
        session.refresh(held)
        assert held.ended_why.startswith(why) and (held.ended_at is not None) == bool(why)


@pytest.mark.parametrize(("most", "depth"), [(2_000, 3), (5, 2), (2, 1)])
def test_headings_hold_every_test_once_and_the_most_important_mark_of_each_cell(
    world: World, monkeypatch: pytest.MonkeyPatch, most: int, depth: int
) -> None:
    monkeypatch.setattr(grid, "MOST_HEADINGS", most)
    site, luck = world.site, np.random.default_rng(most)
    assert site is not None
    owner, attempts = stored_project(site.store, runs=2, cells=3)
    made: list[Identity] = [("unit", f"suite {n % 3}", f"class {n // 50 % 4}", f"t{n}") for n in range(300)]
    with site.store.transaction() as session:
        name = session.get_one(Project, owner).name
        numbers = numbers_of(session, owner, "unit", made)
        for attempt in attempts:
            outcomes = luck.choice([0, 1, 1, 1, 1, 2, 3, 4, 5], 300).astype(np.uint8)
            there = np.flatnonzero(outcomes)
            bad = [
                NotPassed(int(numbers[i]), Outcome(outcomes[i]), "m", "", None) for i in np.flatnonzero(outcomes > 1)
            ]
            keep_results(session, attempt, numbers[there], outcomes[there], np.full(len(there), 0.1), bad)
    every = grid_of_tests(site, name, 2, 1, Wanted(state="all"))
    assert every.shown == every.total == len(every.rows) == sum(h.tests for h in every.headings)
    assert len({row.test for row in every.rows}) == every.total and len(every.headings) <= most
    rows = iter(every.rows)
    for heading in every.headings:
        mine = [next(rows) for _ in range(heading.tests)]
        for cell in range(3):
            worst = min((row.marks[cell] for row in mine), key="nfkqyxsp ".index)
            assert heading.marks[cell] == worst
        for row in mine:
            _, suite, klass, title = made[row.test]
            assert (heading.suite, heading.klass) == (suite if depth > 1 else "", klass if depth > 2 else "")
            assert row.name == (title if depth == 3 else f"{klass} › {title}")
    window = grid_of_tests(site, name, 2, 1, Wanted(state="all", offset=120, limit=30))
    assert [r.test for r in window.rows] == [r.test for r in every.rows[120:150]]
    with site.store.transaction() as session:
        failed = failed_in(session, attempts[:3])
    before = {t for tests in failed.values() for t, flaky in tests.items() if not flaky}
    assert {r.test for r in every.rows if r.failed_before == 1} == before & {r.test for r in every.rows}


def test_the_first_bad_commit_is_found_among_untested_ones(world: World) -> None:
    good, bad = writes(junit(a="passed")), writes(junit(a="expected 1, got 2"))
    repo = world.repository("bisect", PLAN, **{"test.sh": good})
    for i in range(6):
        repo.commit({"test.sh": bad if i >= 3 else good, "n.txt": str(i)}, f"commit {i}")
    repo.push()
    run = repo.run_of(repo.git("rev-parse", "HEAD").strip())
    test = repo.findings(run)["findings"][0]["tests"][0]["test"]
    path = f"/projects/{repo.name}/runs/{run['run']['number']}/tests/{test}/search"
    proposed = world.get(path)
    assert proposed["state"] == "proposed" and len(proposed["commits"]) == 6 and proposed["expected"] >= 2
    assert world.http.post(path).json()["state"] == "running"
    answer = until(lambda: world.get(path), lambda s: s["state"] != "running")
    assert answer["state"] == "found" and answer["answer"]["title"] == "commit 3", answer["said"]
    assert world.http.delete(path).json()["state"] == "found"


def test_a_renamed_test_keeps_its_history_and_is_neither_vanished_nor_new(world: World) -> None:
    repo = world.repository("renames", PLAN, **{"test.sh": writes(junit(opens_at_high_water="passed", a="passed"))})
    moved = repo.pushed({"test.sh": writes(junit(opens_at_high_waters="passed", a="passed"))})
    found = repo.findings(moved)
    assert found["vanished"] == 0 and [o["kind"] for o in found["others"]] == ["moved"]
    test = found["others"][0]["lines"][0]["test"]
    one = world.get(f"/projects/{repo.name}/tests/{test}")
    assert len(one["runs"]) == 2 and "renamed" in one["earlier"][0]["because"]
    held = repo.pushed({"test.sh": writes(junit(opens_at_high_waters="expected 1, got 2", a="passed"))})
    assert repo.findings(held)["findings"][0]["mark"] == "new"


def test_new_results_of_static_analysis_are_told_with_their_place(world: World) -> None:
    plan = PLAN.replace('tests = ["out/unit.xml"]', 'tests = ["out/unit.xml"], analysis = ["out/style.sarif"]')

    def sarif(*lines: int) -> str:
        results = [
            {
                "ruleId": "T1",
                "level": "error",
                "message": {"text": f"line is long: {chr(97 + n)}"},
                "locations": [
                    {"physicalLocation": {"artifactLocation": {"uri": "gauge.lua"}, "region": {"startLine": n}}}
                ],
            }
            for n in lines
        ]
        log = {"version": "2.1.0", "runs": [{"tool": {"driver": {"name": "tidelint"}}, "results": results}]}
        return writes(junit(a="passed")).replace("exit 0", f"cat > out/style.sarif <<'END'\n{json.dumps(log)}\nEND\n")

    repo = world.repository("analysis", plan, **{"gauge.lua": "x\n" * 9, "test.sh": sarif(1)})
    run = repo.pushed({"test.sh": sarif(1, 5)})
    [other] = repo.findings(run)["others"]
    assert other["title"] == "1 new result of static analysis" and other["say"].startswith("1 more")
    assert (other["lines"][0]["path"], other["lines"][0]["line"]) == ("gauge.lua", 5)
    # a step that fails while no test does says what its analysis names, and not that it is why
    failed = repo.pushed({"test.sh": sarif(5, 3) + "exit 1\n"})
    said = "failed, and no test says why; its analysis names 2 errors, first gauge.lua:3 line is long: d"
    assert all(said in c["reason"] for c in failed["cells"]) and said in failed["run"]["sentence"]
    broken = repo.pushed({"test.sh": writes(junit(a="passed")).replace("exit 0", "echo '{' > out/style.sarif")})
    assert broken["run"]["verdict"] == "held" and "style.sarif is not to be trusted" in broken["cells"][0]["reason"]


def test_more_causes_than_a_page_holds_are_counted_and_the_widest_come_first(world: World) -> None:
    words = ["".join(chr(97 + n // 26**i % 26) for i in range(3)) for n in range(MOST_FINDINGS + 3)]
    said = {w: f"Gauge{w.title()}Error: the {w} {w} is {w}" for w in words}
    repo = world.repository("many-causes", PLAN, **{"test.sh": writes(junit(a="passed"))})
    found = repo.findings(repo.pushed({"test.sh": writes(junit(**said, zz=said[words[-1]]))}))
    assert (len(found["findings"]), found["more"], found["tests"]["new"]) == (MOST_FINDINGS, 3, MOST_FINDINGS + 4)
    assert [len(f["tests"]) for f in found["findings"][:2]] == [2, 1]


def test_the_same_test_in_two_reports_counts_once_with_its_worst_outcome(world: World) -> None:
    plan = PLAN.replace('tests = ["out/unit.xml"]', 'tests = ["out/unit.xml", "out/again.xml"]')
    copied = writes(junit(a="passed", b="passed")).replace("exit 0", "cp out/unit.xml out/again.xml")
    repo = world.repository("twice-told", plan)
    twice = repo.pushed({"myriant.toml": plan, "test.sh": copied})
    assert [(c["total"], c["passed"]) for c in twice["cells"]] == [(2, 2)] * 2 and twice["run"]["verdict"] == "clear"
    problems = world.get(f"/attempts/{twice['cells'][0]['attempt_id']}")["reports"][1]["problems"]
    assert problems[0]["message"].startswith("2 tests of this report stand in an earlier one too: each counts once")
    other = junit(b="expected 1, got 2", c="passed")
    held = repo.pushed({"test.sh": copied.replace("cp out/unit.xml out/again.xml", f"echo '{other}' > out/again.xml")})
    assert [(c["total"], c["passed"], c["failed"]) for c in held["cells"]] == [(3, 2, 1)] * 2
    assert "1 test newly fails" in held["run"]["sentence"] and held["share_passed"] == "66.7 %"
    [finding] = repo.findings(held)["findings"]
    assert finding["message"] == "expected 1, got 2"


def test_a_void_cell_says_what_kind_of_trouble_it_is_and_a_project_adds_its_own(world: World) -> None:
    repo = world.repository("kinds", PLAN, **{"test.sh": writes(junit(a="passed"))})
    run = repo.pushed({"test.sh": "echo 'OSError: [Errno 28] No space left on device'; exit 1\n"})
    [trouble] = repo.findings(run)["troubled"]
    assert trouble["told"]["name"] == "disk full" and (len(trouble["cells"]), trouble["of"]) == (2, 2)
    rules = (
        '[[kind]]\nname = "gauge adrift"\npart = "companion"\npattern = "Errno (?P<n>28)"\nsay = "Moor gauge {n}."\n'
    )
    path = f"/projects/{repo.name}/kinds"
    assert world.http.put(path, json={"text": '[[kind]]\nname = "x"\n'}).status_code == 422
    assert world.http.put(path, json={"text": rules}).json()["text"] == rules
    assert {t["told"]["say"] for t in repo.findings(run)["troubled"]} == {"Moor gauge 28."}


def send(world: World, *words: str, folder: Path) -> subprocess.CompletedProcess[str]:
    return world.command("send", *words, cwd=folder)


def test_results_made_elsewhere_are_sent_and_judged_like_others(world: World, tmp_path: Path) -> None:
    repo = world.repository("pump", PLAN, **{"test.sh": writes(junit(a="passed"))})
    commit = repo.git("rev-parse", "HEAD").strip()
    (tmp_path / "site.xml").write_text(junit(pumps="passed", drains="expected 1, got 2"))
    words = (
        "pump",
        "site.xml",
        "--job",
        "on-site",
        "--cell",
        "machine=pump",
        "--commit",
        commit,
        "--version",
        "tidebook 1.4",
        "--of",
        "2",
    )
    done = send(world, *words, folder=tmp_path)
    assert done.returncode == 0, done.stderr
    run = until(
        lambda: next((v for v in world.contexts(commit, "pump") if v["context"] == ""), None),
        lambda v: v and v["final"],
    )
    view = world.get(f"/projects/pump/runs/{run['run']}")
    assert run["verdict"] == "none" and [(c["job"], c["key"], c["failed"]) for c in view["cells"]] == [
        ("on-site", "machine=pump", 1)
    ]
    assert view["cells"][0]["runtimes"] == {"application": "tidebook 1.4"}
    said = view["run"]["sentence"]
    assert said.startswith("No verdict is asked for: 1 test newly fails"), said
    assert said.endswith("1 of 2 cells of on-site have not been sent yet."), said
    # another job's cells are not this one's
    other = ("--job", "ashore", "--commit", commit, "--of", "1")
    assert send(world, "pump", "site.xml", *other, folder=tmp_path).returncode == 0
    told = until(
        lambda: world.get(f"/projects/pump/runs/{run['run']}"), lambda v: len(v["cells"]) == 2 and not v["open"]
    )
    assert "1 of 2 cells of on-site have not been sent yet" in told["run"]["sentence"], told["run"]["sentence"]
    assert "sent before" in send(world, *words, folder=tmp_path).stdout
    (tmp_path / "bad.xml").write_text("<testsuite><testcase name='a'>")
    buoy = ("--job", "on-site", "--cell", "machine=buoy", "--commit", commit, "--of", "2")
    send(world, "pump", "bad.xml", *buoy, folder=tmp_path)
    again = until(
        lambda: world.get(f"/projects/pump/runs/{run['run']}"), lambda v: len(v["cells"]) == 3 and not v["open"]
    )
    assert {c["key"]: c["state"] for c in again["cells"] if c["job"] == "on-site"} == {
        "machine=pump": "failed",
        "machine=buoy": "void",
    }
    assert "not been sent" not in again["run"]["sentence"]


def test_what_is_sent_is_compared_with_what_was_sent_before(world: World, tmp_path: Path) -> None:
    """Known is known, fixed is fixed; a file that no report names any more is not covered; what is not sent yet is
    missing, and has not vanished."""
    repo = world.repository(
        "sent-on", PLAN, **{"test.sh": writes(junit(a="passed")), "a.lua": "1\n2\n", "b.lua": "1\n2\n"}
    )
    full, half = "SF:a.lua\nDA:1,1\nDA:2,1\nend_of_record\n", "SF:b.lua\nDA:1,1\nDA:2,0\nend_of_record\n"
    red, green = {"pumps": "expected 1, got 2", "drains": "passed"}, {"pumps": "passed", "drains": "passed"}
    steps: list[tuple[dict[str, str | None], dict[str, dict[str, str]], str, str, str]] = [
        ({"n": "1"}, {"pump": red, "buoy": {"floats": "passed"}}, full + half, "75.0 %", "1 test newly fails"),
        ({"n": "2"}, {"pump": red, "buoy": {"floats": "passed"}}, full, "50.0 %", "1 known failure"),
        ({"n": "3"}, {"pump": green}, full, "100.0 %", "1 test fixed. Line coverage 100.0 %. 1 of 1 cell"),  # of a part
        ({"b.lua": None}, {"pump": green, "buoy": {"floats": "passed"}}, full, "100.0 %", "3 of 3 tests passed"),
    ]
    for files, machines, covered, share, said in steps:
        commit = repo.pushed(files)["run"]["commit"]
        (tmp_path / "site.lcov").write_text(covered)
        for machine, tests in machines.items():
            (tmp_path / "site.xml").write_text(junit(**tests))
            words = ("site.xml", "--job", "on-site", "--cell", f"machine={machine}", "--commit", commit, "--of", "2")
            done = send(world, "sent-on", *words, "--coverage", "site.lcov", folder=tmp_path)
            assert done.returncode == 0, done.stderr
        [number] = [v["run"] for v in world.contexts(commit, "sent-on") if v["context"] == ""]
        view = world.get(f"/projects/sent-on/runs/{number}")
        sentence = view["run"]["sentence"]
        assert said in sentence and "vanish" not in sentence, sentence
        assert ("have not been sent yet" in sentence) == (len(machines) < 2), sentence
        assert view["coverage"]["shown"] == share, sentence
        assert view["run"]["verdict"] == "none" and world.word(commit, "sent-on")["verdict"] == "clear", sentence  # type: ignore[index]


def test_what_is_sent_of_a_job_of_the_plan_is_not_compared_with_its_runs_here(world: World, tmp_path: Path) -> None:
    repo = world.repository("sent-unit", PLAN, **{"test.sh": writes(junit(a="passed"))})
    commit = repo.pushed({"n": "1"})["run"]["commit"]
    (tmp_path / "unit.xml").write_text(junit(a="expected 1, got 2"))
    words = ("sent-unit", "unit.xml", "--job", "unit", "--cell", "lua=5.1", "--commit", commit)
    assert send(world, *words, folder=tmp_path).returncode == 0
    [number] = [v["run"] for v in world.contexts(commit, "sent-unit") if v["context"] == ""]
    sent = world.get(f"/projects/sent-unit/runs/{number}")
    assert sent["baseline"] is None and "nothing earlier to compare with" in sent["run"]["sentence"], sent["run"]
    assert world.word(commit, "sent-unit")["verdict"] == "clear"  # type: ignore[index]
