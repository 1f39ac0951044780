"""Every number on the header, strip, Matrix and commit note, recomputed from the raw reports by other means."""

from __future__ import annotations

import re
import xml.etree.ElementTree as ElementTree
from collections.abc import Iterator
from fractions import Fraction
from typing import Any

import pytest
from playwright.sync_api import Page, expect, sync_playwright

from chromium import FLAGS
from worlds import World, writes

PLAN = """\
version = 1

[jobs.unit]
vary    = { lua = ["5.1", "5.3", "5.4"], mode = ["fast", "exact"] }
runtime = ["lua"]
drop    = [{ lua = "5.1", mode = "exact" }]

[[jobs.unit.steps]]
name    = "test"
command = "sh report.sh"
collect = { tests = ["out/*.xml"] }

[[jobs.unit.steps]]
name    = "coverage"
command = "sh coverage.sh"
collect = { coverage = ["cov/*.xml", "cov/*.info"] }

[jobs.side]
[[jobs.side.steps]]
name    = "test"
command = "sh side.sh"
collect = { kind = "side", tests = ["out/side.xml"] }

[[gate.rules]]
measure = "tests.failed"
at-most = 1

[[gate.rules]]
measure = "coverage.line"
at-least = "baseline"

[[gate.rules]]
measure = "tests.share-passed"
at-least = 0.9
level = "warn"
"""


def suite(bad: dict[str, str], gone: int = 0) -> str:
    """Twelve tests in two files; `bad` are those that do not pass."""
    rows = [
        f'<testcase classname="c{i % 3}" name="t{i}" time="0.0{i % 7}">{bad.get(f"t{i}", "")}</testcase>'
        for i in range(12 - gone)
    ]
    return f'<testsuites><testsuite name="s" tests="777">{"".join(rows)}</testsuite></testsuites>'


def lines(hits: dict[int, int]) -> str:
    rows = "".join(f'<line number="{n}" hits="{h}"/>' for n, h in hits.items())
    return f'<coverage><packages><package><classes><class filename="gate.lua"><lines>{rows}</lines></class></classes></package></packages></coverage>'


FAIL, ERROR, SKIP = '<failure message="expected 1, got 2"/>', '<error message="boom"/>', "<skipped/>"
TRACE = "mkdir -p cov; printf 'SF:/workspace/side.lua\\nDA:1,1\\nDA:2,0\\nDA:3,%s\\nend_of_record\\n' $([ $MYRIANT_CELL_MODE = fast ] && echo 1 || echo 0) > cov/a.info\n"


def stage(by_version: dict[str, str], hits: dict[int, int], side: str) -> dict[str, str | None]:
    """The files of a commit whose cells report differently by version and mode."""
    case = "".join(
        f"{version}-*) cat > out/unit.xml <<'END'\n{report}\nEND\n;;\n" for version, report in by_version.items()
    )
    script = f'mkdir -p out\ncase "$MYRIANT_CELL_LUA-$MYRIANT_CELL_MODE" in\n{case}esac\n'
    return {
        "myriant.toml": PLAN,
        "report.sh": script,
        "coverage.sh": TRACE + f"cat > cov/b.xml <<'END'\n{lines(hits)}\nEND\n",
        "side.sh": writes(side).replace("unit.xml", "side.xml"),
        "gate.lua": "--\n" * 9,
        "side.lua": "--\n" * 3,
    }


STAGES = [
    stage(dict.fromkeys(("5.1", "5.3", "5.4"), suite({})), {1: 1, 2: 4, 3: 0, 9: 1}, suite({"t1": SKIP})),
    stage(
        {"5.1": suite({"t3": FAIL, "t4": ERROR}), "5.3": suite({"t4": ERROR}), "5.4": suite({"t9": SKIP})},
        {1: 1, 2: 0, 3: 0, 9: 1},
        suite({"t1": SKIP}),
    ),
    stage(
        {"5.1": suite({"t3": FAIL}), "5.3": suite({}), "5.4": suite({"t9": SKIP}, 1)},
        {1: 1, 2: 4, 3: 0, 9: 1},
        suite({"t2": FAIL}),
    ),
]


class Recount:
    """One run counted again: ElementTree for results and Cobertura, a few lines for LCOV."""

    def __init__(self, world: World, view: dict[str, Any]) -> None:
        self.cells: dict[str, dict[tuple[str, ...], str]] = {}
        self.lines: dict[tuple[str, str], bool] = {}
        for cell in view["cells"]:
            found = self.cells[f"{cell['job']} {cell['key']}".strip()] = {}
            for report in world.get(f"/attempts/{cell['attempt_id']}")["reports"]:
                raw = world.http.get(f"/reports/{report['id']}/raw").content
                if report["content"] == "tests":
                    for case in ElementTree.fromstring(raw).iter("testcase"):
                        tags = {child.tag for child in case}
                        outcome = next(
                            (
                                o
                                for t, o in (("failure", "failed"), ("error", "errored"), ("skipped", "skipped"))
                                if t in tags
                            ),
                            "passed",
                        )
                        found[(cell["job"], report["kind"], case.get("classname", ""), case.get("name", ""))] = outcome
                elif raw.startswith(b"<"):
                    for file in ElementTree.fromstring(raw).iter("class"):
                        for line in file.iter("line"):
                            self._line(file.get("filename", ""), line.get("number", ""), int(line.get("hits", "0")))
                else:
                    path = ""
                    for row in raw.decode().splitlines():
                        if row.startswith("SF:"):
                            path = row[3:].removeprefix("/workspace/")
                        elif row.startswith("DA:"):
                            number, hits = row[3:].split(",")[:2]
                            self._line(path, number, int(hits))
        tests: dict[tuple[str, ...], set[str]] = {}
        for results in self.cells.values():
            for test, outcome in results.items():
                tests.setdefault(test, set()).add(outcome)
        worst = [
            next(o for o in ("failed", "errored", "passed", "skipped") if o in outcomes) for outcomes in tests.values()
        ]
        self.tests = {o: worst.count(o) for o in ("passed", "failed", "errored", "skipped")}
        self.ran = self.tests["passed"] + self.tests["failed"] + self.tests["errored"]
        self.share = Fraction(self.tests["passed"], self.ran)
        self.coverage = Fraction(sum(self.lines.values()), len(self.lines))

    def _line(self, path: str, number: str, hits: int) -> None:
        self.lines[(path, number)] = self.lines.get((path, number), False) or hits > 0

    def failing(self, cell: str) -> set[tuple[str, ...]]:
        return {t for t, o in self.cells[cell].items() if o in ("failed", "errored")}

    def new(self, base: Recount | None) -> dict[str, set[tuple[str, ...]]]:
        return {cell: self.failing(cell) - (base.failing(cell) if base else set()) for cell in self.cells}

    def counts(self, cell: str) -> list[int]:
        return [list(self.cells[cell].values()).count(o) for o in ("passed", "failed", "errored", "skipped")]


def percent(value: Fraction) -> str:
    """One decimal, half up; none of these numbers stands at a limit."""
    return f"{float((value * 1000 + Fraction(1, 2)) // 1 / Fraction(10)):.1f} %"


@pytest.fixture(scope="module")
def page(world: World) -> Iterator[Page]:
    with sync_playwright() as playwright:
        found = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS).new_page(
            viewport={"width": 1280, "height": 900}
        )
        found.goto(world.http.post("/sign-in-links", json={}).json()["link"])
        found.wait_for_url(world.address + "/")
        yield found


def test_every_number_agrees_with_the_raw_reports(world: World, page: Page) -> None:
    repo = world.repository("numbers", None)
    views = [repo.pushed(files, f"stage {i}") for i, files in enumerate(STAGES)]
    counted = [Recount(world, view) for view in views]
    assert [v["run"]["verdict"] for v in views] == ["clear", "held", "held"]
    columns = world.get("/projects/numbers/strip")["columns"]
    bases: list[Recount | None] = [None, counted[0], counted[0]]
    for i, (view, mine, base, column) in enumerate(zip(views, counted, bases, columns, strict=True)):
        new = mine.new(base)
        distinct_new = set().union(*new.values())
        note = repo.note(view["run"]["commit"])
        # the strip
        assert column["new"] == len(distinct_new)
        assert Fraction(column["coverage"]).limit_denominator(10**6) == mine.coverage
        assert [m == "n" for m in column["marks"]] == [bool(cells) for cells in _in_lanes(world, new)]
        # the header
        page.goto(f"{world.address}/p/numbers/runs/{view['run']['number']}?section=matrix")
        sentence = page.get_by_test_id("sentence")
        sentence.wait_for()
        header = page.locator("main").inner_text()
        assert f"{percent(mine.share)} of {mine.ran} tests that ran passed" in header
        assert f"{percent(mine.coverage)} of {len(mine.lines)} lines covered" in header
        said = re.search(r"(\d+) tests? newly fail", sentence.inner_text())
        assert int(said[1] if said else 0) == len(distinct_new)
        gate = page.get_by_test_id("gate").inner_text()
        assert f"{mine.tests['failed'] or 'none'} found, at most 1" in gate
        assert percent(mine.coverage) in gate and percent(mine.share) in gate
        if base is not None:
            change = f"{float((mine.coverage - base.coverage) * 100):+.1f}".replace("-", "−").replace("+0.0", "±0.0")
            assert f"({change} points)" in header
        # the Matrix
        page.get_by_test_id("tile").first.wait_for()
        for tile, cell in zip(page.get_by_test_id("tile").all(), _tiles(view), strict=True):
            passed, failed, errored, _ = mine.counts(cell)
            words = f"{failed + errored} failing" if failed + errored else f"{passed} passed"
            assert words in tile.inner_text(), (i, cell)
        # the commit note
        assert sentence.inner_text() in note
        for cell in mine.cells:
            passed, failed, errored, skipped = mine.counts(cell)
            row = next(
                line
                for line in note.splitlines()
                if line.strip().startswith(f"{cell}  ") or line.split("  ")[1:2] == [cell]
            )
            assert f"{passed} passed, {failed} failed, {errored} errored, {skipped} skipped" in row
        listed = re.search(r"new failures \((\d+)\)", note)
        assert int(listed[1] if listed else 0) == sum(map(len, new.values()))
        assert (
            f"line coverage: {percent(mine.coverage)} ({sum(mine.lines.values())} of {len(mine.lines)} lines)" in note
        )
    _past_agrees(world, page, views, counted, bases)


def _past_agrees(
    world: World, page: Page, views: list[dict[str, Any]], counted: list[Recount], bases: list[Recount | None]
) -> None:
    """Trends, Versions and the Desk, from the same recount."""
    new = [mine.new(base) for mine, base in zip(counted, bases, strict=True)]
    runs = world.get("/projects/numbers/trends")["runs"]
    assert runs["number"] == [v["run"]["number"] for v in views] and runs["verdict"] == ["clear", "held", "held"]
    assert runs["new"] == [len(set().union(*n.values())) for n in new]
    for name in ("passed", "skipped"):
        assert runs[name] == [mine.tests[name] for mine in counted], name
    assert runs["tests"] == [sum(mine.tests.values()) for mine in counted]
    assert [round(v, 6) for v in runs["rate"]] == [round(float(100 * mine.share), 6) for mine in counted]
    assert [round(v, 6) for v in runs["coverage"]] == [round(float(100 * mine.coverage), 6) for mine in counted]
    page.goto(f"{world.address}/p/numbers/trends")
    page.get_by_role("button", name="As a table").click()
    for view, mine in zip(views, counted, strict=True):
        row = page.get_by_role("row").filter(has=page.get_by_role("link", name=f"#{view['run']['number']}", exact=True))
        said = [cell.inner_text() for cell in row.get_by_role("cell").all()]
        assert said[5:9] == [
            str(sum(mine.tests.values())),
            str(mine.tests["skipped"]),
            percent(mine.share),
            percent(mine.coverage),
        ]
    # Versions: in how many runs something began to fail with a value, and with nothing else
    records = {
        (r["record"]["dimension"], r["record"]["value"]): r["record"]
        for r in world.get("/projects/numbers/versions")["lines"]
    }
    values = {f"unit {c['key']}": c["values"] for c in views[0]["cells"] if c["job"] == "unit"}
    before = [set(), *(set().union(*n.values()) for n in new)]  # what is broken still breaks nothing more
    broke = [{c for c in n if c in values and n[c] - then} for n, then in zip(new, before, strict=False)]
    for (dimension, value), record in records.items():
        mine = [{c for c in cells if values[c].get(dimension) == value} for cells in broke]
        assert record["failed"] == sum(bool(m) for m in mine), (dimension, value)
        assert record["alone"] == sum(bool(m) and m == cells for m, cells in zip(mine, broke, strict=True)), (
            dimension,
            value,
        )
        assert record["breaks"] == sum(map(bool, broke)) and record["runs"] == len(views)
    assert {v for d, v in records if d == "lua"} == {"5.1", "5.3", "5.4"}
    # the Desk: the newest word of its main line
    page.goto(world.address)
    expect(page.get_by_role("main")).to_contain_text(views[-1]["run"]["sentence"])


def _in_lanes(world: World, new: dict[str, set[tuple[str, ...]]]) -> list[set[tuple[str, ...]]]:
    lanes = world.get("/projects/numbers/strip")["lanes"]
    return [new[f"{lane['job']} {key}".strip()] for lane in lanes for key in lane["keys"]]


def _tiles(view: dict[str, Any]) -> list[str]:
    """Cells in the order in which the Matrix shows them: by job, the second dimension on rows."""
    jobs = list(dict.fromkeys(c["job"] for c in view["cells"]))
    order = []
    for job in jobs:
        mine = [c for c in view["cells"] if c["job"] == job]
        rows = list(dict.fromkeys(c["values"].get("mode", "") for c in mine))
        order += [f"{job} {c['key']}".strip() for row in rows for c in mine if c["values"].get("mode", "") == row]
    return order
