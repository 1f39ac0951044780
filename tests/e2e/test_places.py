"""Every place says the same of one run: while it runs, held early, ended, run again; with a few cells and with many."""

from __future__ import annotations

import re
import time
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from browsing import browser, page
from simulated import FAMILY, Simulated
from worlds import Repository, World, junit, writes

__all__ = ["browser", "page"]
pytestmark = pytest.mark.browser
PASSES = junit(rises="passed", falls="passed", turns="passed")
FAILS = junit(rises="passed", falls="expected 3, got 4", turns="passed")
TURNS = junit(rises="passed", falls="passed", turns="expected half, got full")
DIMENSIONS: dict[int, dict[str, list[str]]] = {
    15: {"tide": ["low", "rising", "high", "falling", "slack"], "moon": ["new", "half", "full"]},
    93: {
        "gauge": [f"1.{n}" for n in range(8)],
        "moon": ["new", "half", "full"],
        "wind": ["calm", "gale"],
        "sea": ["flat", "rough"],
    },
}
DROPPED = {15: [], 93: [("1.0", "new", "calm", sea) for sea in ("flat", "rough")] + [("1.0", "new", "gale", "flat")]}
# Reads, of every head and mark of the grid of tests, where its middle is, and how many cells the heads span.
PLACES = """() => {
  const grid = document.querySelector('[data-testid=tests-grid]')
  const row = [...grid.querySelectorAll('[class*=row]')].find((r) => r.querySelector('[class*=mark]'))
  const middles = (found) => [...found].map((e) => { const b = e.getBoundingClientRect(); return (b.left + b.right) / 2 })
  const heads = [...grid.querySelectorAll('[class*=headRow]')]
  return [middles(heads.at(-1).querySelectorAll('[class*=group]')), middles(row.querySelectorAll('[class*=mark]'))]
}"""


def plan_of(cells: int) -> str:
    lists = ", ".join(f"{name} = [{', '.join(repr(v) for v in values)}]" for name, values in DIMENSIONS[cells].items())
    names = list(DIMENSIONS[cells])
    drop = ", ".join(
        f"{{ {', '.join(f'{n} = {v!r}' for n, v in zip(names, row, strict=True))} }}" for row in DROPPED[cells]
    )
    return (
        f'version = 1\n[jobs.unit]\nvary = {{ {lists} }}\ndrop = [{drop}]\npin = {{ {FAMILY} = "1.0" }}\n'
        f'runtime = ["{FAMILY}"]\n[[jobs.unit.steps]]\nname = "test"\ncommand = "sh test.sh"\n'
        'collect = { tests = ["out/unit.xml"] }\n'
    ).replace("'", '"')


@dataclass
class Told:
    """What must be said of the run now."""

    verdict: str
    ended: int
    running: int
    failing: int  # cells
    new: int  # tests
    noted: str = ""  # the verdict that the note begins with; empty: there is none
    final: bool = False

    def numbers(self, cells: int) -> str:
        """A pattern that the sentence fits, whole."""
        if self.verdict == "undecided":
            failing = f", {self.failing} with failures so far" if self.failing else ""
            return rf"Undecided: {self.ended} of {cells} cells done, {self.running} running{failing}\."
        newly = f"{self.new} test newly fails" if self.new == 1 else f"{self.new} tests newly fail"
        tests = f"{newly}(, only where [a-z0-9=.,|<> ]+)?" if self.new else "3 of 3 tests passed.*"
        against = "against [0-9a-f]{7}"
        if not self.final:
            left = f"{cells - self.ended} cells still to end, which cannot clear it"
            return rf"Held early: {tests}, {against}\. {left}\."
        return rf"{self.verdict.capitalize()}: {tests}\. {cells} of {cells} cells in [0-9a-z. ]+, {against}\."


@dataclass
class Played:
    """A run that is played by a simulated runner, and what every place says of it."""

    world: World
    page: Page
    repo: Repository
    runner: Simulated
    cells: int
    held: list[dict[str, Any]] = field(default_factory=list)
    commit: str = ""

    def push(self, report: str) -> None:
        self.commit = self.repo.commit({"test.sh": writes(report), "note": str(time.monotonic())})
        self.repo.push()

    def claim(self, wanted: int) -> None:
        """Until the runner holds so many cells of the newest run."""
        while len(self.held) < wanted:
            holding = tuple(lease["attempt"] for lease in self.held)
            self.held += self.runner.claim(min(32, wanted - len(self.held)), holding, wait=5)

    def end(self, count: int, report: str) -> None:
        for _ in range(count):
            self.runner.finish(self.held.pop(0), report)

    def rest(self, number: int, report: str) -> None:
        """Until every cell of the run has ended."""
        while not self._stands(number)[3]:
            self.end(len(self.held), report)
            self.held += self.runner.claim(32, wait=1)

    def agree(self, number: int, told: Told) -> None:
        """Every place says what must be said, in the same words: at last, as places hear of a change one by one."""
        end = time.monotonic() + 60
        while True:
            try:
                return self._all_agree(number, told)
            except AssertionError:
                if time.monotonic() > end:
                    raise
                time.sleep(0.5)

    def _all_agree(self, number: int, told: Told) -> None:
        project = self.repo.name
        [*_, said] = self._until(lambda: self._stands(number), lambda s: self._fits(s, told))
        assert re.fullmatch(told.numbers(self.cells), said), (said, told)
        word = self.world.word(self.commit, project)
        assert word is not None
        assert (word["verdict"], word["sentence"], word["final"]) == (told.verdict, said, told.final)
        done = self.world.command("verdict", self.commit, "--project", project)
        assert done.returncode == {"undecided": 3, "held": 1, "clear": 0}[told.verdict]
        assert said in done.stdout
        column = self.world.get(f"/projects/{project}/strip")["columns"][-1]
        assert (column["run"]["sentence"], column["new"]) == (said, told.new)
        [desk] = [p for p in self.world.get("/desk")["projects"] if p["project"]["name"] == project]
        marks = Counter({"n": told.failing, "r": told.running, "w": self.cells - told.ended - told.running})
        for letters in (column["marks"], desk["runs"][-1]["marks"]):
            assert Counter(letters) - Counter("pfky" * self.cells) == marks if told.new else True
            assert len(letters) == self.cells
        note = self.repo.note(self.commit, within=0)
        assert note.startswith(f"verdict: {told.noted} " if told.noted else "") and bool(note) == bool(told.noted)
        assert said in note or not told.final
        self._screens(number, told, said)

    def _stands(self, number: int) -> tuple[str, int, int, bool, str]:
        """Of the run: its verdict, how many cells have ended and run, whether all is over, and its sentence."""
        view = self.world.get(f"/projects/{self.repo.name}/runs/{number}")
        states, run = Counter(c["state"] for c in view["cells"]), view["run"]
        ended, over = states["passed"] + states["failed"], run["ended_at"] is not None
        return run["verdict"], ended, states["running"], over, run["sentence"]

    def _fits(self, stands: tuple[str, int, int, bool, str], told: Told) -> bool:
        early = told.verdict == "held" and not told.final
        last = f"{self.cells - told.ended} cells still" in stands[-1] or not early
        return stands[:-1] == (told.verdict, told.ended, told.running, told.final) and last

    def _until(self, ask: Callable[[], Any], fits: Callable[[Any], bool]) -> Any:
        end = time.monotonic() + 60
        while not fits(found := ask()):
            assert time.monotonic() < end, str(found)[-3000:]
            time.sleep(0.15)
        return found

    def _screens(self, number: int, told: Told, said: str) -> None:
        page, at = self.page, f"{self.world.address}/p/{self.repo.name}/runs/{number}"
        page.goto(f"{at}?section=matrix&list=1")
        page.get_by_test_id("tile").first.wait_for()
        assert page.title() == f"{self.repo.name} #{number} {told.verdict} · Myriant"
        assert page.get_by_test_id("sentence").inner_text().startswith(said)
        tiles = page.get_by_test_id("tile").evaluate_all("all => all.map(t => t.getAttribute('aria-label'))")
        shown = Counter(label.rsplit(": ", 1)[1] for label in tiles)
        assert +shown == +Counter(
            {
                "1 failing": told.failing,
                "3 passed": told.ended - told.failing,
                "running": told.running,
                "waiting": self.cells - told.ended - told.running,
            }
        )
        row = page.get_by_role("option").first.inner_text()
        assert said in row and (f"{told.new} new" in row) == bool(told.new)
        gate = page.get_by_test_id("gate").inner_text()
        if told.verdict == "undecided":
            assert gate.strip() == "What must hold\n\nIt is judged when the last cell has ended."
        else:
            assert f"no new failures: {f'{told.new} found, none allowed' if told.new else 'yes'}" in gate
        header = page.locator("main").inner_text()
        share = {0: "100.0 %", 1: "66.7 %", 2: "33.3 %"}[told.new]
        assert (f"{share} of 3 tests that ran passed" in header) == told.final
        if told.ended:
            page.goto(f"{at}?section=tests&state=all")
            page.get_by_test_id("tests-grid").get_by_role("link", name="falls").wait_for()
            heads, marks = page.evaluate(PLACES)
            assert len(marks) == self.cells
            assert len(heads) <= len(marks) and max(min(abs(m - h) for m in marks) for h in heads) <= 0.51, heads
        page.goto(self.world.address)
        page.get_by_role("link", name=f"Run {number}: {told.verdict}").last.wait_for()
        needs = page.get_by_role("region", name="Needs a decision").inner_text()
        assert (said in needs) == (told.verdict == "held")


@pytest.fixture
def runner(world: World) -> Iterator[Simulated]:
    made = Simulated(world, "pilot", slots=100)
    yield made
    while leases := made.claim(32, wait=0.2):  # control runs, which nobody else could take
        for lease in leases:
            made.finish(lease, PASSES)
    world.http.delete(f"/runners/{made.name}")


@pytest.mark.parametrize("cells", [15, 93])
def test_every_place_says_the_same_of_a_run(page: Page, world: World, runner: Simulated, cells: int) -> None:
    played = Played(world, page, world.repository(f"places-{cells}", plan_of(cells)), runner, cells)
    with runner.beating(played.held):
        played.push(PASSES)
        played.repo.run_of(played.commit, until="there")
        played.rest(1, PASSES)
        assert played.repo.run_of(played.commit)["run"]["verdict"] == "clear"
        played.push(FAILS)
        played.claim(9)
        played.end(5, PASSES)
        played.agree(2, Told("undecided", 5, 4, 0, 0))
        played.end(1, FAILS)
        played.agree(2, Told("held", 6, 3, 1, 1))
        played.end(1, TURNS)
        played.agree(2, Told("held", 7, 2, 2, 2))
        played.rest(2, PASSES)
        played.agree(2, Told("held", cells, 0, 2, 2, "held", final=True))
        wish = {"which": "not-passed"}
        assert world.http.post(f"/projects/{played.repo.name}/runs/2/again", json=wish).status_code < 300
        played.agree(2, Told("undecided", cells - 2, 0, 0, 0, "undecided"))
        played.rest(2, PASSES)
        played.agree(2, Told("clear", cells, 0, 0, 0, "clear", final=True))


def test_20000_tests_stand_under_their_heads(page: Page, world: World, runner: Simulated) -> None:
    groups, each = 200, 100
    names = [(f"tide.g{g:03d}", f"t{n:02d}") for g in range(groups) for n in range(each)]

    def report(failing: tuple[str, str] | None) -> str:
        rows = (
            f'<testcase classname="{g}" name="{n}" time="0.01"'
            + ("><failure message='expected 3, got 4'/></testcase>" if (g, n) == failing else "/>")
            for g, n in names
        )
        return f'<testsuites><testsuite name="s">{"".join(rows)}</testsuite></testsuites>'

    played = Played(world, page, world.repository("many-tests", plan_of(15)), runner, 15)
    with runner.beating(played.held):
        played.push(PASSES)
        played.claim(15)
        played.end(5, report(("tide.g117", "t42")))
        played.end(10, report(None))
        played.rest(1, report(None))
        run = played.repo.run_of(played.commit)
    assert run["run"]["verdict"] == "held" and run["run"]["sentence"].startswith("Held: 1 test newly fails")
    page.goto(f"{world.address}/p/many-tests/runs/1?section=tests")
    expect(page.get_by_text("20,000 tests in 15 cells")).to_be_visible()
    grid = page.get_by_test_id("tests-grid")
    expect(grid.get_by_role("link", name="t42")).to_have_count(1)
    page.get_by_text("all", exact=True).click()
    grid.get_by_role("button", name="Unfold all").click()
    for key, first, last in (("Home", "t00", "tide.g000"), ("End", "t99", "tide.g199")):
        grid.focus()
        page.keyboard.press(key)
        expect(grid.get_by_role("link", name=first).last).to_be_visible()
        expect(
            grid.get_by_role("button", name=re.compile(last)).or_(grid.get_by_role("link", name=first)).first
        ).to_be_visible()
        heads, marks = page.evaluate(PLACES)
        assert len(marks) == 15 and max(min(abs(m - h) for m in marks) for h in heads) <= 0.51, (key, heads, marks)
    page.get_by_label("Search tests").fill("g117 t4")
    expect(grid.get_by_role("link")).to_have_count(10)
    assert page.evaluate("document.querySelectorAll('[data-testid=tests-grid] [class*=row]').length") < 200
