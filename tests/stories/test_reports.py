"""Reports of a branch beside its past, and how large everything is."""

from __future__ import annotations

import html
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path

import numpy as np
import pytest
import sqlalchemy as sa
from sqlalchemy.orm import Session

from myriant.core.results.model import Outcome
from myriant.flow.compare.levels import SeriesChange, changes_at, changes_of, said_short, seen_with, values_of
from myriant.flow.site import Site
from myriant.flow.upkeep.retention import keep_todays_sizes
from myriant.flow.views.report.days import BranchReport, ReportLine, ReportRow, Side
from myriant.flow.views.report.page import report_html
from myriant.store.records import Counts, Measures
from myriant.store.tables import Attempt, Cell, Failure, Project, Run
from myriant.store.trends import TOTALS, Series
from worlds import PLAN, World, junit, writes


def _filled(site: Site, name: str, days: int, held: float, seconds: float, runs: int = 40) -> None:
    """A project whose newest days differ from those before."""
    rng = np.random.default_rng(7)
    with site.store.transaction() as session:
        project = Project(name=name, address="/nowhere", main_branch="main")
        project.looked_at = datetime.now(UTC) + timedelta(days=1)
        session.add(project)
        session.flush()
        for n in range(1, 2 * runs + 1):
            newer = n > runs
            made = datetime.now(UTC) - timedelta(days=2 * days * (1 - (n - 0.5) / (2 * runs)))
            took = timedelta(seconds=float((seconds if newer else 60) + rng.uniform(0, 5)))
            bad = bool(rng.random() < (held if newer else 0.1))
            totals = {"tests.new": int(bad), "tests.passed": 9, "tests.total": 10, "tests.skipped": 0}
            run = Run(
                project_id=project.id,
                number=n,
                event="push",
                context="push main",
                branch="main",
                commit=f"{n:040x}",
                state="failed" if bad else "passed",
                verdict="held" if bad else "clear",
                depth=n,
                created_at=made,
                started_at=made + timedelta(seconds=2),
                ended_at=made + took,
                measures=Measures(jobs={"unit": totals}),
            )
            session.add(run)
            session.flush()
            _cell(session, run, 0, {"lua": "5.4"}, took, n if bad else None)


def _cell(
    session: Session, run: Run, position: int, values: dict[str, str], took: timedelta, broke: int | None
) -> None:
    """A cell with its attempt, in which a test of this number began to fail."""
    cell = Cell(
        run_id=run.id,
        job="unit",
        job_title="unit",
        position=position,
        key=",".join(f"{k}={v}" for k, v in values.items()),
        values=values,
        wants=[],
        state="passed" if broke is None else "failed",
        counts=Counts(new=int(broke is not None)),
    )
    session.add(cell)
    session.flush()
    made = run.created_at
    attempt = Attempt(
        cell_id=cell.id,
        number=1,
        state=cell.state,
        runner="",
        lease_digest="",
        lease_until=made,
        started_at=made,
        ended_at=made + took,
    )
    session.add(attempt)
    session.flush()
    cell.attempt_id = attempt.id
    if broke is not None:
        outcome = int(Outcome.FAILED)
        session.add(Failure(attempt_id=attempt.id, test=broke, outcome=outcome, message="", detail="", signature=""))


@pytest.mark.parametrize(
    ("held", "seconds", "better", "said"),
    [
        (0.1, 60, {}, "neither how often that is nor its times differ by much"),
        (0.1, 62, {}, "neither how often that is nor its times differ by much"),  # surely, and by little
        (0.6, 60, {"Held": False}, "held worse"),
        (0.1, 20, {"Time to the verdict, median": True}, "time to the verdict, median better"),
        (0.6, 90, {"Held": False, "Time to the verdict, median": False}, "worse"),
    ],
)
def test_a_report_says_what_differs_beyond_chance(
    world: World, held: float, seconds: float, better: dict[str, bool], said: str
) -> None:
    site = world.site
    name = f"report-{held}-{seconds}".replace(".", "-")
    _filled(site, name, 10, held, seconds)
    found = world.get(f"/projects/{name}/report", days=10)
    assert (found["now"]["runs"], found["before"]["runs"]) == (40, 40)
    assert {r["title"]: r["better"] for r in found["rows"] if r["better"] is not None} == better, found["rows"]
    assert said in found["said"] and found["said"].startswith("main: 40 runs in 10 days")
    rows = {r["title"]: r for r in found["rows"]}
    assert int(rows["Tests that broke"]["now"]) == found["now"]["held"]
    other = world.get(f"/projects/{name}/report", days=10, beside="none")
    assert other["before"] == {**other["now"], "branch": "none", "title": "none", "runs": 0, "held": 0}
    assert "there is nothing to compare that with" in other["said"]
    assert "Nothing was judged" in world.get(f"/projects/{name}/report", days=10, branch="none")["said"]


def _varied(site: Site, name: str, runs: int) -> None:
    """Four cells a run, of which two break now and then."""
    with site.store.transaction() as session:
        project = Project(name=name, address="/nowhere", main_branch="main")
        project.looked_at = datetime.now(UTC) + timedelta(days=1)
        session.add(project)
        session.flush()
        for n in range(1, runs + 1):
            made = datetime(2026, 6, 1, 12, tzinfo=UTC) + timedelta(hours=8 * n)
            run = Run(
                project_id=project.id,
                number=n,
                event="push",
                context="push main",
                branch="main",
                commit=f"{n:040x}",
                state="passed",
                verdict="clear",
                depth=n,
                created_at=made,
                started_at=made,
                ended_at=made,
            )
            session.add(run)
            session.flush()
            for i, values in enumerate({"lua": a, "harbour": b} for a in ("5.1", "5.4") for b in ("north", "south")):
                bad = (i == 0 and n % 6 == 0) or (i == 3 and n % 10 == 5)
                took = timedelta(seconds=66 if i < 2 else 60)
                _cell(session, run, i, values, took, 10 * n + i if bad else None)


def test_fewer_cells_and_two_values_are_told_of_the_past_that_was(world: World) -> None:
    site = world.site
    _varied(site, "varied", 60)
    [found] = world.get("/projects/varied/fewer")
    breaks = sorted({*range(6, 61, 6), *range(5, 61, 10)})
    assert (found["job"], found["cells"], found["runs"], found["breaks"]) == ("unit", 4, 60, len(breaks))
    assert {s["key"] for s in found["steps"]} == {"lua=5.1,harbour=north", "lua=5.4,harbour=south"}
    assert [s["found"] for s in found["steps"]] == [10, 16] and found["steps"][1]["seconds"] == 126.0
    assert found["steps"][0]["late"] + found["steps"][0]["over"] == 6
    assert found["said"].startswith(
        "2 cells would have found all 16 breaks over 60 runs with all 4 cells, in 2 min 6 s"
    )
    assert "instead of 4 min 12 s (50 %)" in found["said"]
    since = breaks[-(len(breaks) // 3)]
    assert found["said"].endswith(
        f"Chosen by the breaks before #{since} alone, 2 cells would have found 5 of the 5 that came since."
    )
    asked = {"job": "unit", "dimension": "lua", "one": "5.1", "other": "5.4"}
    told = world.get("/projects/varied/versions/beside", **asked)
    assert told["said"] == (
        "Over 60 runs with both, 5.1 alone failed in 10, 5.4 alone in 6, both in 0; "
        "a cell with 5.1 takes 10 % longer than one with 5.4."
    )
    turned = world.get("/projects/varied/versions/beside", **{**asked, "one": "5.4", "other": "5.1"})
    assert "a cell with 5.4 takes 9 % less than one with 5.1" in turned["said"]
    none = world.get("/projects/varied/versions/beside", **{**asked, "other": "5.2"})
    assert none["said"] == "No judged run has cells of unit that differ in 5.1 and 5.2 alone."
    _varied(site, "brief", 12)
    assert world.get("/projects/brief/fewer") == [], "too little is known"


def _released(site: Site, name: str, tags: dict[str, int]) -> None:
    """Tags of a filled project, each just after a run of the branch."""
    with site.store.transaction() as session:
        project = session.scalars(sa.select(Project).where(Project.name == name)).one()
        for n, (tag, after) in enumerate(tags.items(), 500):
            made = session.scalars(sa.select(Run.created_at).where(Run.project_id == project.id, Run.number == after))
            session.add(
                Run(
                    project_id=project.id,
                    number=n,
                    event="tag",
                    context=f"tag {tag}",
                    branch="",
                    tag=tag,
                    commit=f"{n:040x}",
                    state="passed",
                    verdict="clear",
                    depth=n,
                    created_at=made.one() + timedelta(seconds=1),
                )
            )


def test_a_report_of_a_release_is_of_the_way_to_it(world: World, tmp_path: Path) -> None:
    site = world.site
    _filled(site, "released", 10, 0.6, 90)
    _released(site, "released", {"v1": 12, "v2": 40, "v3": 75})
    found = world.get("/projects/released/report", release="v3")
    assert (found["now"]["title"], found["now"]["runs"]) == ("v3", 35) and found["releases"] == ["v3", "v2", "v1"]
    assert (found["before"]["title"], found["before"]["runs"]) == ("v2", 28)
    assert found["said"].startswith("main: 35 runs since release v2, ")
    other = world.get("/projects/released/report", release="v2", beside="v1")
    assert (other["now"]["runs"], other["before"]["runs"]) == (28, 12)
    first = world.get("/projects/released/report", release="v1")
    assert first["now"]["since"] > "2026", "since the first run, not since for ever"
    assert (
        first["before"]["runs"] == 0
        and "since the beginning" in first["said"]
        and "nothing to compare" in first["said"]
    )
    for wrong in ({"release": "v9"}, {"release": "v1", "beside": "v9"}):
        assert world.http.get("/projects/released/report", params=wrong).status_code == 404, wrong
    page = world.http.get("/projects/released/report.html", params={"release": "v3"}).text
    assert page.count("<svg") == 3 and "<script" not in page and "v2" in page and found["said"] in html.unescape(page)
    paper = world.http.get("/projects/released/report.pdf", params={"release": "v3"})
    assert paper.status_code == 200 and paper.content.startswith(b"%PDF-") and b"%%EOF" in paper.content[-64:]
    said = world.command("report", "released", "--release", "v3", "--to", str(tmp_path / "r.pdf"))
    assert said.returncode == 0 and (tmp_path / "r.pdf").read_bytes().startswith(b"%PDF-"), said.stderr
    assert "35 runs since release v2" in world.command("report", "released", "--release", "v3").stdout
    assert world.command("report", "released", "--to", str(tmp_path / "r.txt")).returncode == 2


def test_a_change_that_may_have_come_with_others_says_so() -> None:
    change = SeriesChange(
        "tests", "The usual number of tests is 9 since #5, before it 4", 5, 5, 5, "c" * 40, "t", 4, 9, worse=False
    )
    assert said_short(change) == f"The usual number of tests is 9 since {'c' * 7} (#5)"
    assert (
        said_short(replace(change, latest=7))
        == f"The usual number of tests is 9 since {'c' * 7} (#5, or another of #5 to #7)"
    )


@pytest.mark.parametrize(
    ("newest", "told"),
    [
        (112, "The usual number of tests is 112 (+12 %) since #21, before it 100"),
        (109, "The usual number of tests is 112 (+12 %) since #21, before it 100"),
        (60, "The usual number of tests is 112 (+12 %) since #21, before it 100; in #40, the newest, 60"),
    ],
)
def test_a_level_is_what_is_usual_and_the_newest_is_told_where_it_is_not(newest: int, told: str) -> None:
    totals = np.array([[n] * len(TOTALS) for n in [100] * 20 + [112] * 19 + [newest]])
    numbers = list(range(1, 41))
    texts, times = [f"{n:040x}" for n in numbers], np.full(40, np.nan)
    series = Series(numbers, texts, texts, texts, ["clear"] * 40, times, times, times, times, totals, times, times)
    tests = totals[:, 0].astype(float)
    assert [c.said for c in changes_of(series, {**values_of(series), "tests": tests}) if c.measure == "tests"] == [told]


def test_what_came_from_outside_stands_on_the_page_as_what_it_is() -> None:
    side = Side("<i>main", "<i>main", datetime.now(UTC), datetime.now(UTC), 1, 0)
    row = ReportRow("Runs & more", "<b>1", '"2"', None, "<u>no more</u>")
    change = SeriesChange("x", "a < b", 2, 1, 2, "c" * 40, "<script>alert(1)</script>", 1.0, 2.0, worse=True)
    report = BranchReport("<h2>said", side, side, [row], [change], False, [])
    page = report_html("<p>project", report, [ReportLine("<line>", [1.0, None, 2.0, 3.0], str)], 'http://a/"x')
    for wild in ("<i>main", "<b>1", "<u>no", "<script>", "<h2>said", "<p>project", "<line>", '/"x'):
        assert wild not in page, wild
    assert page.count("M") >= 2, "a gap breaks the line"


def test_sizes_are_those_of_the_database_and_their_growth_is_told_after_a_week(world: World) -> None:
    site = world.site
    with site.store.engine.connect() as connection:
        by_hand = connection.execute(
            sa.text("SELECT sum(pg_total_relation_size(relid)) FROM pg_stat_user_tables WHERE schemaname = 'public'")
        ).scalar_one()
        run = connection.execute(sa.text("SELECT pg_total_relation_size('run')")).scalar_one()
    found = world.get("/sizes")
    assert abs(sum(s["bytes"] for s in found["subjects"]) - found["files"] - int(by_hand)) < 0.2 * int(by_hand)
    assert {t["name"]: t["bytes"] for t in found["tables"]}["run"] >= run and found["database"] > int(by_hand)
    assert "in the database" in found["said"] and "are free" in found["said"]
    today = datetime.now(UTC)
    with site.store.engine.begin() as connection:
        connection.execute(sa.text("DELETE FROM size_of_day"))  # the worker has kept what it was when it began
    keep_todays_sizes(site, today)
    assert not keep_todays_sizes(site, today), "once a day"
    assert all(s["a_day"] is None for s in world.get("/sizes")["subjects"])
    with site.store.engine.begin() as connection:
        connection.execute(sa.text("UPDATE size_of_day SET day = day - 10, bytes = bytes / 2"))
    grown = world.get("/sizes")
    results = next(s for s in grown["subjects"] if s["what"] == "results of tests")
    assert results["a_day"] == pytest.approx(results["bytes"] / 20, rel=0.3)
    assert "a day: at that rate there is room for" in grown["said"]
    with site.store.engine.begin() as connection:
        connection.execute(sa.text("DELETE FROM size_of_day"))


@pytest.mark.parametrize(
    ("levels", "told"),
    [
        ([(20, 100), (20, 112)], ["The usual number of tests is 112 (+12 %) since #21"]),
        ([(40, 100)], []),
        ([(20, 100), (1, 140), (19, 100)], []),  # one run is no level
        ([(15, 100), (15, 120), (15, 90)], ["is 120 (+20 %) since #16", "is 90 (−25 %) since #31"]),
    ],
)
def test_a_change_of_level_is_said_once_on_the_run_that_shows_it(
    world: World, levels: list[tuple[int, int]], told: list[str]
) -> None:
    """In the note of the first run by which it can be told, and among the findings of the run that brought it."""
    site = world.site
    rng = np.random.default_rng(3)
    said: list[tuple[int, str]] = []
    at = {}
    with site.store.transaction() as session:
        project = Project(
            name=f"levels-{len(levels)}-{levels[0][0]}-{levels[-1][0]}", address="/nowhere", main_branch="main"
        )
        project.looked_at = datetime.now(UTC) + timedelta(days=1)
        session.add(project)
        session.flush()
        runs = []
        for n, tests in enumerate((tests for count, tests in levels for _ in range(count)), 1):
            made = datetime.now(UTC) - timedelta(hours=100 - n)
            totals = {"tests.new": 0, "tests.passed": tests, "tests.total": tests, "tests.skipped": 0}
            run = Run(
                project_id=project.id,
                number=n,
                event="push",
                context="push main",
                branch="main",
                commit=f"{n:040x}",
                state="passed",
                verdict="clear",
                depth=n,
                created_at=made,
                started_at=made + timedelta(seconds=2),
                ended_at=made + timedelta(seconds=60 + float(rng.uniform(0, 4))),
                measures=Measures(jobs={"unit": totals}),
            )
            session.add(run)
            session.flush()
            runs.append(run)
            said += [(n, said_short(change)) for change in seen_with(session, run)]
        at = {run.number: [c.said for c in changes_at(session, run)] for run in runs}
        session.rollback()
    assert len(said) == len(told), said
    for (n, line), words in zip(said, told, strict=True):
        since = int(words.rpartition("#")[2])
        assert since + 4 <= n <= since + 9, "as soon as it can be told"
        assert (
            line.startswith("The usual number of tests is")
            and f"(#{since}" in line
            and words.partition(" since")[0] in line
        )
        assert any(words in one for one in at[since]), at[since]
    assert sum(map(len, at.values())) == len(told)


def test_a_run_of_which_a_part_runs_again_took_only_the_time_in_which_it_ran(world: World) -> None:
    repo = world.repository("taken-up", None)
    run = repo.pushed({"myriant.toml": PLAN, "test.sh": writes(junit(a="passed"))})["run"]
    commit, number = run["commit"], run["number"]

    def again() -> None:
        answer = world.http.post(f"/projects/taken-up/runs/{number}/again", json={"which": "all"})
        assert answer.status_code == 200, answer.text
        repo.run_of(commit)

    again()
    with world.site.store.transaction() as session:  # a night ago
        session.execute(
            sa.text(
                "UPDATE run SET created_at = created_at - '9 h'::interval, started_at = started_at - '9 h'::interval,"
                "ended_at = ended_at - '9 h'::interval WHERE commit_id = :commit"
            ),
            {"commit": commit},
        )
    again()
    again()
    line = repo.run_of(commit)["run"]
    took = line["took"]
    days = world.get("/projects/taken-up/trends", branch="main")["runs"]
    csv = world.http.get("/projects/taken-up/runs.csv", params={"wanted": "{}"}).text
    assert took < 600, "nobody worked at it overnight"
    assert days["seconds"][-1] == pytest.approx(took, abs=1) and days["to_verdict"][-1] < 600
    assert csv.splitlines()[1].endswith(str(took))
