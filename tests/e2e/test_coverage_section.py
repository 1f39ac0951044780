"""The section Coverage, every number of it counted again from the raw reports and the two commits by other means."""

from __future__ import annotations

import difflib
import re
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect

from browsing import axe, browser, page
from worlds import Repository, World, junit

__all__ = ["browser", "page"]
GATE = """local gate = {}

function gate.level(low, high)
  if high < low then
    error("the levels stand the wrong way round")
  end
  return high - low
end

return gate
"""
LATER = GATE.replace(
    "return gate\n",
    """function gate.slowly(low, high)
  local steps = {}
  if math.type then
    return steps, 'exact'
  end
  return steps, 'rough'
end

return gate
""",
)
PUMP = "local pump = {}\nreturn pump\n"
PLAN = """version = 1
[jobs.unit]
runtime = ["lua"]
vary = { lua = ["5.1", "5.3", "5.4"] }
[[jobs.unit.steps]]
name = "test"
command = "sh test.sh"
collect = { tests = ["out/a.xml"], coverage = ["out/*.info"] }
[coverage]
exclude = ["tests/**"]
"""
OLD = {1: 1, 3: 1, 4: 9, 5: 1, 7: 9, 10: 1}
NEW = {1: 1, 3: 1, 4: 9, 5: 0, 7: 9, 10: 1, 11: 3, 12: 3, 13: 0, 15: 0, 18: 1}
EXACT = {**NEW, 13: 2}


def lcov(path: str, hits: dict[int, int], branches: str = "") -> str:
    rows = "".join(f"DA:{n},{h}\\n" for n, h in hits.items())
    return f"SF:/workspace/{path}\\n{branches}{rows}end_of_record\\n"


def script(usual: dict[int, int], exact: dict[int, int]) -> str:
    branches = "BRDA:4,0,0,9\\nBRDA:4,0,1,0\\n"
    return f"""mkdir -p out; echo '{junit(opens="passed")}' > out/a.xml
case $MYRIANT_CELL_LUA in
5.1) printf '{lcov("src/gate.lua", usual, branches)}' > out/a.info;;
*) printf '{lcov("src/gate.lua", exact, branches)}' > out/a.info;;
esac
printf '{lcov("src/far/tide.lua", {1: 1, 2: 0})}{lcov("tests/test_gate.lua", {1: 0, 2: 0})}' >> out/a.info
"""


class Recount:
    """Coverage counted again: raw LCOV by a few lines, the change by difflib."""

    def __init__(self, world: World, repo: Repository, view: dict[str, Any], before: str, after: str) -> None:
        self.covered: dict[str, dict[int, set[str]]] = {}
        for cell in view["cells"]:
            for report in world.get(f"/attempts/{cell['attempt_id']}")["reports"]:
                path = ""
                if report["content"] == "coverage":
                    for row in world.http.get(f"/reports/{report['id']}/raw").text.splitlines():
                        if row.startswith("SF:"):
                            path = row.removeprefix("SF:/workspace/")
                        elif row.startswith("DA:") and not path.startswith("tests/"):
                            number, hits = row[3:].split(",")
                            reached = self.covered.setdefault(path, {}).setdefault(int(number), set())
                            if int(hits):
                                reached.add(cell["key"])
        self.changed: dict[str, set[int]] = {}
        for path in ("src/gate.lua", "src/pump.lua"):
            old, new = (
                repo.git("show", f"{c}:{path}").splitlines() if there(repo, c, path) else [] for c in (before, after)
            )
            self.changed[path] = {
                n + 1
                for tag, _, _, a, b in difflib.SequenceMatcher(None, old, new, autojunk=False).get_opcodes()
                if tag != "equal"
                for n in range(a, b)
            }

    def bare(self, path: str) -> list[int]:
        known = self.covered.get(path)
        lines = self.changed[path]
        return sorted(n for n in lines if known is None or (n in known and not known[n]))

    @property
    def totals(self) -> tuple[int, int]:
        lines = [reached for file in self.covered.values() for reached in file.values()]
        return sum(bool(r) for r in lines), len(lines)


def there(repo: Repository, commit: str, path: str) -> bool:
    return path in repo.git("ls-tree", "-r", "--name-only", commit).split()


@pytest.mark.browser
def test_every_number_of_the_section_is_that_of_the_raw_reports(page: Page, world: World) -> None:
    repo = world.repository("covered", None)
    files = {
        "myriant.toml": PLAN,
        "src/gate.lua": GATE,
        "src/far/tide.lua": "a()\nb()\n",
        "tests/test_gate.lua": "x()\ny()\n",
    }
    first = repo.pushed({**files, "test.sh": script(OLD, OLD)}, "Begin to measure")
    second = repo.pushed({"src/gate.lua": LATER, "src/pump.lua": PUMP, "test.sh": script(NEW, EXACT)}, "Open it slowly")
    again = Recount(world, repo, second, first["run"]["commit"], second["run"]["commit"])
    covered, valid = again.totals
    found = world.get("/projects/covered/runs/2/coverage")
    assert (found["line"]["covered"], found["line"]["valid"]) == (covered, valid)
    assert {f["path"]: f["uncovered"] for f in found["change"]["files"]} == {p: again.bare(p) for p in again.changed}
    coverable = sum(len(again.changed[p] & set(again.covered.get(p, again.changed[p]))) for p in again.changed)
    run = sum(1 for p in again.changed for n in again.changed[p] if again.covered.get(p, {}).get(n))
    assert (found["change"]["share"]["covered"], found["change"]["share"]["valid"]) == (run, coverable)
    assert found["lost"] == [{"path": "src/gate.lua", "lines": [5]}]
    exported = world.http.get("/projects/covered/runs/2/coverage.lcov").text
    assert (
        len(re.findall(r"^DA:", exported, re.M)) == valid
        and len(re.findall(r"^DA:\d+,0$", exported, re.M)) == valid - covered
    )
    assert world.http.get("/projects/covered/runs/2/coverage.csv").text.count("\n") == 1 + len(again.covered)

    page.goto(f"{world.address}/p/covered/runs/2")
    expect(page.get_by_role("main")).to_contain_text(f"{run / coverable * 100:.1f} % of the changed lines covered")
    page.keyboard.press("4")
    change = page.get_by_role("region", name="The change")
    expect(change).to_contain_text(f"of {coverable} changed lines run")
    expect(page.get_by_text(f"{coverable - run} of {coverable} changed lines were run by nothing")).to_be_visible()
    for path in again.changed:
        shown = change.get_by_label(re.compile(f"^{re.escape(path)}, around line")).locator(
            "svg[aria-label='run by nothing']"
        )
        expect(shown).to_have_count(len(again.bare(path)))
    expect(change).to_contain_text("no report names this file")
    expect(page.get_by_role("region", name="Reached no more")).to_contain_text("src/gate.lua 5")
    assert axe(page) == []

    change.get_by_role("button", name="src/gate.lua").click()
    source = page.get_by_role("region", name="src/gate.lua, line by line")
    expect(source.get_by_label("run by nothing", exact=True)).to_have_count(
        sum(not r for r in again.covered["src/gate.lua"].values())
    )
    expect(source.get_by_text("only where lua>=5.3")).to_have_count(1)
    expect(source.get_by_text("reached no more")).to_have_count(1)
    expect(source.get_by_text("1 of 2 branches")).to_have_count(1)
    page.keyboard.press("j")
    expect(source.locator("[data-chosen='true'][data-bare='true']")).to_have_count(1)
    assert axe(page) == []
    page.keyboard.press("u")
    expect(change).to_be_visible()
    files_region = page.get_by_role("region", name="Files")
    files_region.get_by_label("Find a file").fill("tide")
    expect(files_region.get_by_role("listitem")).to_have_count(1)
    expect(files_region.get_by_role("listitem")).to_contain_text("1 of 2 lines")

    page.goto(f"{world.address}/p/covered/runs/1?section=coverage")
    expect(page.get_by_role("region", name="The change")).to_contain_text("nothing earlier to have changed since")


@pytest.mark.browser
def test_a_run_without_coverage_says_so(page: Page, world: World) -> None:
    repo = world.repository("bare", None)
    plan = PLAN.replace(', coverage = ["out/*.info"]', "")
    repo.pushed({"myriant.toml": plan, "test.sh": script(OLD, OLD)})
    page.goto(f"{world.address}/p/bare/runs/1?section=coverage")
    expect(page.get_by_text("#1 has no coverage.")).to_be_visible()
