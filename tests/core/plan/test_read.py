"""A plan is read with the place and the mend of everything that is wrong with it."""

from __future__ import annotations

import re
import time
import tomllib
from datetime import date
from fractions import Fraction
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from myriant.core.matrix.expand import expand
from myriant.core.plan.advice import sample_events
from myriant.core.plan.intent import intent
from myriant.core.plan.places import locate
from myriant.core.plan.read import read_plan

STEP = '[[jobs.unit.steps]]\ncommand = "true"\n'
GOOD = 'version = 1\n[jobs.unit]\nvary = { lua = ["5.1", "5.4"] }\nruntime = ["lua"]\n' + STEP


def test_a_good_plan_has_no_problems_and_its_cells_in_order() -> None:
    reading = read_plan((GOOD + '[[gate.rules]]\nmeasure = "tests.new"\nat-most = 0\n').encode())
    assert not reading.errors
    assert reading.plan is not None
    assert [c.key for c in expand(reading.plan.job("unit"))] == ["lua=5.1", "lua=5.4"]
    assert reading.plan.rules[0].line == 7


@pytest.mark.parametrize(
    ("source", "line", "column", "message", "mend"),
    [
        ("", 1, 1, "does not say its version", "version = 1"),
        ("version = 2\n[jobs.unit]\n" + STEP, 1, 11, "version 2 is not known", "version = 1"),
        ('version = "1"\n[jobs.unit]\n' + STEP, 1, 11, "version must be a number, this is a text", "write 1"),
        ("version = 1\n", 1, 1, "no job", "[jobs.unit]"),
        ('version = 1\n[jobs.unit]\ntitle = "x\n', 3, 11, "not valid TOML", "close the text"),
        ("version = 1\nversion = 1\n", 2, 12, "cannot overwrite", "remove or rename"),
        ("version = 1\n[jobs.Unit]\n" + STEP, 2, 7, "small letters", "write unit"),
        (GOOD.replace("runtime", "runtimes"), 4, 1, 'unknown key "runtimes" in job unit', "did you mean runtime?"),
        (GOOD.replace('["lua"]', '["lau"]'), 4, 12, "no dimension", "did you mean lua?"),
        (GOOD.replace('"5.4"', "5.10"), 3, 24, "as a number 5.10 would be 5.1", 'quote it: "5.10"'),
        (GOOD.replace('"5.4"', '"five"'), 3, 24, "no version of lua", "3.12"),
        (GOOD.replace('"5.4"', '"5.1"'), 3, 24, "twice", "once"),
        (GOOD.replace('["5.1", "5.4"]', "[]"), 3, 16, "no values", "at least one"),
        (GOOD + 'title = "x"\n', 7, 1, "title stands under step 1", "move it above"),
        (GOOD + "drop = 3\n", 7, 1, "drop stands under step 1", "move it above"),
        (GOOD.replace("runtime =", 'drop = [{ lua = "5.2" }]\nruntime ='), 4, 17, "this never holds", "did you mean"),
        (
            GOOD.replace("runtime =", 'drop = [{ ruby = "1" }]\nruntime ='),
            4,
            11,
            "no dimension",
            "dimensions here: lua",
        ),
        (GOOD.replace("runtime =", 'drop = [{ lua = "<= x y" }]\nruntime ='), 4, 17, "no comparison", "comparison"),
        (GOOD.replace("runtime =", "timeout = 20\nruntime ="), 4, 11, "no duration", "20 min"),
        (GOOD.replace("runtime =", 'timeout = "20"\nruntime ='), 4, 11, "no duration", "20 min"),
        (GOOD.replace("command", "comand"), 6, 1, 'unknown key "comand"', "did you mean command?"),
        (GOOD.replace('"true"', '""'), 6, 11, "empty", "command"),
        (GOOD + "collect = {}\n", 7, 1, "collects nothing", "tests ="),
        (GOOD + 'collect = { tests = ["/tmp/a.xml"] }\n', 7, 22, "leads out", "out/unit.xml"),
        (GOOD + 'collect = { tests = ["../a.xml"] }\n', 7, 22, "leads out", "relative"),
        (GOOD + 'collect = { tests = "a.xml" }\n', 7, 21, "tests must be a list", 'write ["a.xml"]'),
        (GOOD + '[[gate.rules]]\nmeasure = "tests.knew"\nat-most = 0\n', 8, 11, "no measure", "did you mean"),
        (GOOD + '[[gate.rules]]\nmeasure = "tests.new"\n', 7, 3, "no limit", "at-most = 0"),
        (
            GOOD + '[[gate.rules]]\nmeasure = "coverage.line"\nat-least = 80\n',
            9,
            12,
            "fraction from 0 to 1",
            "write 0.8",
        ),
        (
            GOOD + '[[gate.rules]]\nmeasure = "tests.new"\nat-most = 0\nlevel = "error"\n',
            10,
            9,
            "not known for level",
            "block",
        ),
        (GOOD + '[[gate.rules]]\nmeasure = "tests.new"\nat-most = 0\njobs = ["unti"]\n', 10, 9, "no job", "unit"),
        (
            "version = 1\n[events]\npush = { branchs = [] }\n" + GOOD[12:],
            3,
            10,
            "unknown key",
            "did you mean branches?",
        ),
        ('version = 1\n[jobs.unit]\nenv = { MYRIANT_X = "1" }\n' + STEP, 3, 9, "MYRIANT", "another name"),
    ],
)
def test_each_problem_says_where_why_and_the_mend(source: str, line: int, column: int, message: str, mend: str) -> None:
    reading = read_plan(source.encode())
    assert reading.plan is None
    found = [(p.line, p.column) for p in reading.problems if message in p.message and mend in p.mend]
    assert (line, column) in found, [str(p) for p in reading.problems]


def test_all_problems_are_reported_at_once_in_the_order_of_their_places() -> None:
    source = GOOD.replace("command", "comand").replace("runtime =", "runtim =").replace("version = 1", "version = 9")
    places = [(p.line, p.column) for p in read_plan(source.encode()).problems]
    assert len(places) >= 4 and places == sorted(places)


HOSTILE = [
    (b"version = 1 # \xff\n", "not UTF-8"),
    (b"x" * (1 << 20) + b"x", "at most 1,048,576 are read"),
    (b"version = 1\nx = " + b"[" * 5000 + b"]" * 5000, "nested too deeply"),
    (b"version = 1\nx = " + b"9" * 5000, "cannot be read"),
    (
        b"version = 1\n[jobs.unit]\nvary = {"
        + b",".join(b"d%d = [%s]" % (i, b",".join(b'"%d"' % v for v in range(10))) for i in range(9))
        + b"}\n",
        "1,000,000,000 cells",
    ),
    (
        b"version = 1\n[jobs.unit]\n" + b"".join(b"key%d = 1\n" % i for i in range(10_000)),
        "9,002 more problems are not listed",
    ),
    (b"version = 1\n" + b"a = = 1\n" * 10_000, "not valid TOML"),
    (b"version = 1\n" + b"".join(b"[jobs.j%d]\n" % i for i in range(3000)), "3000 jobs; at most 64"),
    (b"version = 1\n[jobs.unit]\ntimeout = 1e999999999\n", "no duration"),
    (b'version = 1\n[[gate.rules]]\nmeasure = "tests.new"\nat-most = 1e999999999\n', "no limit that can be met"),
    (b"jobs = 3\nversion = []\nevents = 1979-05-27\ngate = { rules = 7 }\n", "jobs must be a table"),
]


@pytest.mark.parametrize(("source", "said"), HOSTILE, ids=[said for _, said in HOSTILE])
def test_hostile_plans_are_answered(source: bytes, said: str) -> None:
    reading = read_plan(source)
    assert reading.plan is None and any(said in p.message for p in reading.problems)


FULL = (Path(__file__).parent / "full.toml").read_text()
TOKENS = [
    "=",
    "[",
    "]",
    "{",
    "}",
    '"',
    "'",
    ",",
    "\n",
    "[[",
    "]]",
    "true",
    "3.10",
    "1e999999999",
    "0x",
    "99999999999999999999",
    "1979-05-27",
    "steps",
    "vary",
    "version",
    "jobs",
    "<= ",
    "!",
    "*",
    "#",
    "\\",
    "\0",
    "\ud800",
    "é",
    '"""',
    "nan",
    "-1",
    ".",
    "shared",
    "when",
]


@st.composite
def mutated(draw: st.DrawFn) -> bytes:
    """The full plan after some cuts, insertions, doublings and swaps of its lines."""
    text = FULL
    for _ in range(draw(st.integers(1, 4))):
        at = draw(st.integers(0, len(text)))
        match draw(st.integers(0, 4)):
            case 0:
                text = text[:at] + text[at + draw(st.integers(1, 40)) :]
            case 1:
                text = text[:at] + "".join(draw(st.lists(st.sampled_from(TOKENS), max_size=4))) + text[at:]
            case 2:
                lines = text.split("\n")
                i, j = (draw(st.integers(0, len(lines) - 1)) for _ in "ij")
                lines[i], lines[j] = lines[j], lines[i]
                text = "\n".join(lines)
            case 3:
                words = re.findall(r"[a-z-]+|\"[^\"]*\"|[0-9.]+", text)
                text = text.replace(
                    draw(st.sampled_from(words)), draw(st.sampled_from(words + TOKENS)), draw(st.integers(1, 3))
                )
            case _:
                text = text[:at] + draw(st.text(max_size=12)) + text[at:]
    return text.encode("utf-8", "surrogatepass")


def claims_of_a_reading(source: bytes) -> None:
    """What holds of every plan, however damaged: an answer, and no other exception."""
    reading = read_plan(source)
    assert (reading.plan is None) == bool(reading.errors)
    assert all(p.message and p.mend and p.line >= 1 and p.column >= 1 for p in reading.problems)
    if reading.plan is not None:
        for event in sample_events(reading.plan):
            found = intent(reading.plan, event)
            assert found.reason or found.starts
            assert all(j.runs or j.reason for j in found.jobs)


@given(mutated())
@settings(max_examples=150, deadline=None)
def test_a_damaged_plan_gives_problems_and_no_other_exception(source: bytes) -> None:
    claims_of_a_reading(source)


def test_every_key_of_the_format_is_read() -> None:
    reading = read_plan(FULL.encode())
    assert not reading.errors and reading.plan is not None
    assert not reading.problems
    plan = reading.plan
    assert [(n.at, n.to, n.committers, n.url_secret) for n in plan.notify] == [
        (("held", "cleared"), (), True, ""),
        (("held", "cleared", "released"), (), False, "CHAT_HOOK"),
    ]
    unit, integration, publish = plan.job("unit"), plan.job("integration"), plan.job("publish")
    assert (unit.env, unit.timeout, integration.env) == (
        {"TZ": "UTC", "LEVEL": "high"},
        1200.0,
        {"TZ": "UTC", "LEVEL": "low"},
    )
    assert [s.name for s in unit.steps] == ["environment", "install", "test", "style"]
    assert (unit.steps[2].timeout, unit.steps[2].shell, unit.steps[2].folder, unit.steps[2].network) == (
        90.0,
        "bash",
        "server",
        False,
    )
    assert (
        unit.steps[3].may_fail and unit.steps[3].command == (".venv/bin/ruff", "check") and integration.steps[0].always
    )
    assert [(c.kind, c.tests, c.coverage, c.attachments, c.may_be_empty) for c in unit.steps[2].collect] == [
        ("unit", ("out/unit.xml",), ("out/coverage.xml",), (), False),
        ("unit", (), (), ("out/*.png",), True),
    ]
    assert (unit.limits.memory, unit.retry.void, unit.at_once, unit.formerly) == (2 << 30, 2, 4, ("tests",))
    assert [(a.job, a.even_if_failed) for a in integration.after] == [("unit", False), ("notes", True)]
    assert (integration.runtime, integration.pin, integration.source.history) == (
        ("python",),
        {"python": "3.12"},
        "full",
    )
    assert integration.companions[0].ready.tcp and integration.hand_over == {"wheel": "dist/*.whl"}
    assert publish.gated and publish.approval is not None and publish.approval.within == 2 * 86400
    assert publish.expect is not None and publish.expect.tag_key == "project.version"
    assert plan.events.tags == ("v*",) and [s.name for s in plan.events.schedules] == ["nightly", "weekly"]
    assert [(r.limit, r.level, r.jobs) for r in plan.rules] == [
        (0, "block", ()),
        ("baseline", "block", ("unit",)),
        (Fraction(3, 4), "warn", ()),
    ]
    assert plan.rules[1].since == date(2026, 11, 1) and plan.coverage.map == (("/build/", ""),)


@pytest.mark.parametrize(
    "command", ["x" * 1_000_000, "a." * 400_000, "http://" * 100_000, "./" * 300_000, "/home/" * 100_000]
)
def test_a_huge_text_is_looked_through_in_no_time(command: str) -> None:
    begun = time.monotonic()
    read_plan(f'{GOOD[: GOOD.index("command")]}command = "{command}"\ncollect = {{ tests = ["out/a.xml"] }}\n'.encode())
    assert time.monotonic() - begun < 10


def test_places_agree_with_the_values_for_every_way_of_writing_keys() -> None:
    source = (
        'a = 1\nb.c = 2\n"d e".f = [10, { g = 3 }]\n[h.i]\nj = { k.l = 4 }\n[[m]]\nn = 1\n[[m]]\nn = 2\n[m.o]\np = 5\n'
    )
    places = locate(source.encode())

    def every(value: object, path: tuple[str | int, ...] = ()) -> list[tuple[str | int, ...]]:
        if isinstance(value, dict):
            return [p for k, v in value.items() for p in every(v, (*path, k))]
        if isinstance(value, list):
            return [p for i, v in enumerate(value) for p in every(v, (*path, i))]
        return [path]

    for path in every(tomllib.loads(source)):
        assert path in places.values, path
    assert (places.of_value(("m", 1, "n")).line, places.of_value(("m", 1, "n")).column) == (9, 5)
    assert places.of_value(("m", 1, "o", "p")).line == 11
