"""The past of tidebook: ten weeks of commits and what their runs reported."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from myriant.core.plan.versions import version_key
from myriant.core.results.junit import read_junit
from myriant.demo.people import ANSELM, INGRID, MARISOL, TOBIAS, YUKI, Author
from myriant.demo.reports import Case, Fault, cases_of, cobertura, junit
from myriant.demo.scenario import Edit
from myriant.flow.history import PastCell, PastReport
from myriant.runner.runtimes import Runtime

HERE = Path(__file__).parent
COUNT = 80
STATIONS = ("Otter Bend", "Millrace", "Staithe", "Bittern", "Lantern", "Eelhouse", "Plover", "Sedge")
STRICT = Edit(
    "tidebook/predict.py",
    "    return [height(station, start + i * step) for i in range(count + 1)]\n",
    "    times = [start + i * step for i in range(count + 1)]\n"
    "    return [height(station, t) for t, _ in zip(times, range(count + 1), strict=True)]\n",
)
FINER = Edit("tidebook/predict.py", "while high - low > 1e-7:", "while high - low > 1e-12:")
LONG = Edit(
    "tidebook/table.py",
    '    return "\\n".join(lines)\n',
    '    return "\\n".join(lines)  # the office prints this page on the narrow printer, so that nothing of what stands in a line may be longer than it is\n',
)
_NOTICE = '''

def {name}(station, hours):
    """{title}."""
    level = hours * {factor} + station.mean_level
    return "%s: {said}" % station.name if level > {limit} else None
'''
NOTICES = (
    "spring_tide",
    "neap_tide",
    "storm_surge",
    "low_bridge",
    "closed_sluice",
    "slack_water",
    "fog_signal",
    "night_watch",
)
STYLE_BAD, STRICT_BAD, SLOW, VOID, SUPERSEDED = range(18, 20), range(33, 36), range(41, 58), 52, 70
FLAKY = {26: 1, 37: 4, 49: 2, 63: 0}
NO_RUN = {47}
LOGBOOK = 74  # from this commit on the tables are kept in a database
LOGBOOK_TESTS = (
    "test_every_station_has_its_turns",
    "test_high_and_low_waters_alternate",
    "test_a_turn_is_entered_once",
)
_LOGBOOK_JOB = """
[jobs.integration]
title   = "Integration tests"
after   = ["style"]
vary    = { python = [@NEWEST@] }
runtime = ["python"]
timeout = "5 min"
env     = { TIDES_DATABASE = "tides" }

[[jobs.integration.steps]]
name    = "environment"
command = "python tools/install.py"

[[jobs.integration.steps]]
name    = "test"
command = ".venv/bin/python -m pytest -q integration --junitxml=out/integration.xml"
collect = { kind = "integration", tests = ["out/integration.xml"] }

[jobs.integration.companions.db]
command = "./tools/start-database"
port    = 5432
ready   = { command = "psql -h 127.0.0.1 -p $MYRIANT_DB_PORT -U tides -d tides -c 'SELECT 1'", within = "30 s" }

"""


def edit(tree: Path, i: int) -> tuple[Author, str]:
    """Change the work tree for commit `i`; its author and message."""
    changes = {
        STYLE_BAD.start: (LONG, False, TOBIAS, "Say why the page is narrow"),
        STYLE_BAD.stop: (LONG, True, TOBIAS, "Say it shorter"),
        STRICT_BAD.start: (STRICT, False, YUKI, "Pair times with their numbers strictly"),
        STRICT_BAD.stop: (STRICT, True, YUKI, "Count times in a way that every Python knows"),
        SLOW.start: (FINER, False, MARISOL, "Find the turn of the tide more exactly"),
        SLOW.stop: (FINER, True, ANSELM, "A tenth of a second is exact enough for a tide"),
    }
    if i in changes:
        change, back, author, message = changes[i]
        (change.reversed() if back else change).apply(tree)
        return author, message
    if i == LOGBOOK:
        _keep_a_logbook(tree)
        return INGRID, "Keep the logbook of printed tables in a database"
    author = (MARISOL, INGRID, YUKI, TOBIAS, ANSELM)[i * 3 % 5]
    if i % 14 == 5:
        name = NOTICES[i // 14]
        _add_notice(tree, name, i // 14)
        return TOBIAS, f"Add the notice for {name.replace('_', ' ')}"
    if i % 9 == 2 and i // 9 < len(STATIONS):
        name, mark = STATIONS[i // 9], "        # more stations stand below\n"
        wave = f'        station("{name}", {2.6 + i % 7 / 10:.1f}, M2=({1.5 + i % 5 / 10:.2f}, {120 + i}.0), S2=(0.5, {160 + i}.0)),\n'
        Edit("tidebook/stations.py", mark, wave + mark).apply(tree)
        return author, f"Add the gauge at {name}"
    log = tree / "OFFICE.md"
    known = log.read_text(encoding="utf-8") if log.exists() else "# Office log\n"
    log.write_text(f"{known}\n- entry {known.count('- entry') + 1}: table printed and hung up\n", encoding="utf-8")
    return author, ("Hang up the table of the week", "Correct the office log", "Explain chart datum to newcomers")[
        i % 3
    ]


def _keep_a_logbook(tree: Path) -> None:
    plan = tree / "myriant.toml"
    text = plan.read_text(encoding="utf-8")
    newest = text.split("[jobs.style]")[1].split("python = [")[1].split("]")[0]
    before, gate, rest = text.partition("[[gate.rules]]")
    plan.write_text(before.rstrip() + "\n" + _LOGBOOK_JOB.replace("@NEWEST@", newest) + gate + rest, encoding="utf-8")
    (tree / ".env.example").write_text("# for trying it by hand\nTIDES_DATABASE=logbook\n", encoding="utf-8")
    shutil.copytree(HERE / "tidebook/integration", tree / "integration", ignore=shutil.ignore_patterns("__pycache__"))


def _add_notice(tree: Path, name: str, k: int) -> None:
    path = tree / "tidebook/notices.py"
    first = '"""Notices to boats, from the height of the tide."""\n'
    text = path.read_text(encoding="utf-8") if path.exists() else first
    title = name.replace("_", " ").capitalize()
    notice = _NOTICE.format(name=name, title=title, factor=round(0.1 + k / 40, 3), limit=3 + k / 10, said=title.lower())
    path.write_text(text + notice, encoding="utf-8")


@dataclass(frozen=True, slots=True)
class Pattern:
    unit: list[Case]
    style: list[Case]
    year: list[Case]


def pattern(tree: Path, python: Runtime, shared: str) -> Pattern:
    """The cases that tidebook's tests report, by really running them with one Python."""
    with tempfile.TemporaryDirectory() as scratch:
        copy = Path(scratch) / "tidebook"
        shutil.copytree(tree, copy, ignore=shutil.ignore_patterns(".git"))
        environment = {"PATH": os.environ["PATH"], "MYRIANT_SHARED": shared, "LC_ALL": "C.UTF-8"}
        for words in (
            [str(python.path), "tools/install.py"],
            [str(python.path), "tools/reference.py"],
            [".venv/bin/python", "-m", "pytest", "-q", "-m", "not slow", "tests", "--junitxml=out/unit.xml"],
            [".venv/bin/python", "-m", "pytest", "-q", "-m", "slow", "tests", "--junitxml=out/year.xml"],
            [str(python.path), "tools/style.py"],
        ):
            done = subprocess.run(words, cwd=copy, env=environment, capture_output=True, text=True, check=False)
            if done.returncode != 0:
                raise RuntimeError(f"tidebook's own {' '.join(words[:3])} failed: {(done.stdout + done.stderr)[-500:]}")
        unit, year, style = (
            cases_of(read_junit([(copy / f"out/{n}.xml").read_bytes()])) for n in ("unit", "year", "style")
        )
        return Pattern(unit, style, year)


def cells(
    i: int, tree: Path, base: Pattern, versions: Sequence[tuple[str, str]], luck: random.Random
) -> list[PastCell]:
    """What the cells of commit `i` reported; `versions` are (wish, exact) in the order of the plan."""
    sources = {p.name: p.read_text(encoding="utf-8") for p in (tree / "tidebook").glob("*.py")}
    coverage = cobertura(sources, never_imported={"notices.py"})
    old = {wish for wish, _ in versions if version_key(wish) <= version_key("3.9")}
    found = []
    unit = [(wish, exact, rounding) for wish, exact in versions for rounding in ("nearest", "bankers")]
    for place, (wish, exact, rounding) in enumerate(unit):
        faults = {}
        if i in STRICT_BAD and wish in old:
            faults["test_a_series_has_both_its_ends"] = Fault(
                "failure",
                "TypeError: zip() takes no keyword arguments",
                "tests/test_predict.py:49: in test_a_series_has_both_its_ends\n    found = heights(PURE, 0, 6, 0.5)\n"
                "tidebook/predict.py:19: in heights\n    return [height(station, t) for t, _ in zip(times, range(count + 1), strict=True)]\n"
                "E   TypeError: zip() takes no keyword arguments",
            )
        if i in FLAKY and FLAKY[i] % len(unit) == place:
            faults["test_a_page_begins_with_station_and_day"] = Fault(
                "failure",
                "AssertionError: assert 'Heron Reach, day 4' == 'Heron Reach, day 3'",
                "tests/test_table.py:25: in test_a_page_begins_with_station_and_day\nE   AssertionError: assert 'Heron Reach, day 4' == 'Heron Reach, day 3'",
            )
        reports = [
            PastReport(1, "tests", "unit", "out/unit.xml", junit(base.unit, faults, luck, 3.1 if i in SLOW else 1.0)),
            PastReport(2, "coverage", "unit", "out/coverage.xml", coverage),
        ]
        seconds = (1.1 if i in SLOW else 0.8) * luck.lognormvariate(0, 0.1)
        void = "step test crashed by SIGSEGV" if i == VOID and place == len(unit) - 1 else ""
        said = f"{len(base.unit) - len(faults)} passed, {len(faults)} failed\n".encode()
        key = f"python={wish},rounding={rounding}"
        found.append(
            PastCell(
                "unit", key, seconds, {"python": exact}, [] if void else reports, [1] if faults else [], void, said
            )
        )
    wish, exact = max(versions, key=lambda v: version_key(v[0]))
    bad = {"tidebook/table.py": Fault("failure", "tidebook/table.py:24: 163 characters", "")} if i in STYLE_BAD else {}
    report = PastReport(0, "tests", "style", "out/style.xml", junit(base.style, bad, luck))
    found.append(PastCell("style", f"python={wish}", 0.15, {"python": exact}, [report], [0] if bad else []))
    known = [
        c
        for c in base.year
        if "[" not in c.name or any(f'"{name}"' in sources["stations.py"] for name in [c.name.partition("[")[2][:-1]])
    ]
    report = PastReport(2, "tests", "slow", "out/year.xml", junit(known, {}, luck, 2.6 if i in SLOW else 1.0))
    seconds = sum(c.seconds for c in known) * (2.6 if i in SLOW else 1.0) + 0.5
    found.append(PastCell("year", f"python={wish}", seconds, {"python": exact}, [report]))
    if i >= LOGBOOK:
        cases = [Case("pytest", "integration.test_logbook", name, 0.03) for name in LOGBOOK_TESTS]
        report = PastReport(1, "tests", "integration", "out/integration.xml", junit(cases, {}, luck))
        found.append(PastCell("integration", f"python={wish}", 1.9, {"python": exact}, [report]))
    return found
