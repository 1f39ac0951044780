"""The past of lockstep: ten weeks of commits and what their runs reported."""

from __future__ import annotations

import random
import subprocess
from pathlib import Path

from myriant.core.results.junit import read_junit
from myriant.demo.people import ANSELM, INGRID, MARISOL, TOBIAS, YUKI, Author
from myriant.demo.reports import Case, Fault, cases_of, junit
from myriant.demo.scenario import BREAK, FIX, Edit
from myriant.flow.history import PastCell, PastReport
from myriant.runner.runtimes import Runtime

COUNT = 80
LOCKS = (
    "Heron Reach",
    "Saltmarsh",
    "Otter Bend",
    "Millrace",
    "Reedham",
    "Willow",
    "Coldwater",
    "Lantern",
    "Sluice End",
    "Teal",
    "Staithe",
    "Gravel Pit",
    "Upper Fen",
    "Lower Fen",
    "Bittern",
    "Osier",
    "Plover",
    "Eelhouse",
    "Sedge",
    "Marl",
)
_FEWER = Edit(
    "test/toll_test.lua",
    "for month, season in ipairs(seasons) do",
    "for month = 1, 9 do\n  local season = seasons[month]",
)
_GONE = ("month 10 is autumn", "month 11 is autumn", "month 12 is winter")
BROKEN = range(11, 14)
VOID, SUPERSEDED, TOGETHER, REFACTORED = 30, 46, 52, 60
NO_RUN = {TOGETHER}


def edit(tree: Path, i: int) -> tuple[Author, str]:
    """Change the work tree for commit `i`; its author and message."""
    if i == BROKEN.start:
        BREAK.apply(tree)
        return TOBIAS, "Draw the ruler in one go"
    if i == BROKEN.stop:
        FIX.apply(tree)
        return ANSELM, "Draw the ruler so that every Lua spaces it"
    if i == REFACTORED:
        _FEWER.apply(tree)
        return YUKI, "Test the seasons of the boating year in one loop"
    author = (INGRID, MARISOL, TOBIAS, YUKI, ANSELM)[i * 7 % 5]
    if i % 4 == 1 and i // 4 < len(LOCKS):
        name = LOCKS[i // 4]
        path = tree / "locks" / f"{name.lower().replace(' ', '_')}.lua"
        path.parent.mkdir(exist_ok=True)
        path.write_text(
            f'return {{ name = "{name}", lower = {1 + i % 7 / 10:.1f}, upper = {3 + i % 11 / 10:.1f}, length = {20 + i % 9} }}\n'
        )
        return author, f"Add the lock at {name}"
    book = tree / "LEVELS.md"
    known = book.read_text(encoding="utf-8") if book.exists() else "# Levels\n"
    book.write_text(
        f"{known}\n- reading {known.count('- reading') + 1}: all locks within their marks\n", encoding="utf-8"
    )
    return author, ("Note the levels of the week", "Write down how paddles are greased", "Correct a reading")[i % 3]


def pattern(tree: Path, runtimes: list[Runtime]) -> list[Case]:
    """The cases that lockstep's own runner reports, by really running it."""
    lua = next(r for r in runtimes if r.family == "lua")
    out = tree.parent / "lockstep-pattern.xml"
    subprocess.run([lua.path, "test/run.lua", str(out)], cwd=tree, capture_output=True, check=False)
    found = cases_of(read_junit([out.read_bytes()]))
    out.unlink()
    return found


def cells(i: int, base: list[Case], versions: dict[str, str], luck: random.Random) -> list[PastCell]:
    """What the cells of commit `i` reported; `versions` are exact by wish: "5.1" to "5.1.5"."""
    cases = [c for c in base if i < REFACTORED or c.name not in _GONE]
    found = []
    for wish, exact in versions.items():
        faults = {}
        if i in BROKEN and wish == "5.1":
            faults["a ruler has its marks apart"] = Fault(
                "failure",
                'expected "+---- +---- +----", got "+----+----+----"',
                "stack traceback:\n\t./test/gauge_test.lua:12: in function <./test/gauge_test.lua:12>\n\t[C]: in function 'xpcall'",
            )
        data = junit(cases, faults, luck)
        if i == VOID and wish == "5.3":
            data = data[: len(data) * 2 // 3]
        said = "".join(f"not ok: {name}\n    {fault.message}\n" for name, fault in faults.items())
        said += f"Lua {wish}: {len(cases)} tests, {len(faults)} not ok\n"
        report = PastReport(0, "tests", "unit", "out/unit.xml", data)
        seconds = 0.25 * luck.lognormvariate(0, 0.2)
        found.append(
            PastCell("unit", f"lua={wish}", seconds, {"lua": exact}, [report], [0] if faults else [], log=said.encode())
        )
    return found
