"""Signatures, grouping, kinds, likely changes, moved tests and what else leads from a failure to its cause."""

from __future__ import annotations

import math
import random

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from failures import made, scores
from myriant.core.diagnosis.discovery import leftovers, not_run
from myriant.core.diagnosis.expected import expected_and_actual
from myriant.core.diagnosis.flaky import is_steady
from myriant.core.diagnosis.frames import frames_of
from myriant.core.diagnosis.kinds import KindError, kind_of, kinds_from, usual_kinds
from myriant.core.diagnosis.levels import level_changes
from myriant.core.diagnosis.naming import named_in
from myriant.core.diagnosis.signature import group, normalised, signature_of
from myriant.core.diagnosis.slower import slower
from myriant.core.diagnosis.suspects import Failure, Touched, rank
from myriant.core.results.junit_words import odd_time
from myriant.core.results.moved import moved
from myriant.repos.mirror import functions_in, idle_in

FRAMES = [
    (
        '  File "/workspace/tide/gauge.py", line 7, in read\n  File "/usr/lib/python3.12/json/decoder.py", line 3, in x',
        "tide/gauge.py:7 read",
    ),
    (
        "\tat org.junit.Assert.fail(Assert.java:89)\n\tat tide.Gauge.read(Gauge.java:12)",
        "Gauge.java:12 tide.Gauge.read",
    ),
    ("    at read (file:///workspace/src/gauge.mjs:4:9)\n    at node:internal/process:1:2", "src/gauge.mjs:4 read"),
    ("#0 /workspace/src/Gauge.php(12): read()", "src/Gauge.php:12 read"),
    ("./lib/gauge.rb:9:in `read'\n/usr/lib/ruby/rspec.rb:1:in `run'", "lib/gauge.rb:9 read"),
    ("thread 'main' panicked at src/gauge.rs:12:5:\nlow", "src/gauge.rs:12"),
    ("gauge_test.go:17: got 1, want 2", "gauge_test.go:17"),
    ("src/gauge.cc:5: Failure\nExpected equality", "src/gauge.cc:5"),
    ("in function gauge:read/0 (gauge.erl, line 4)", "gauge.erl:4"),
    ("#   at t/gauge.t line 7.", "t/gauge.t:7"),
    ("lua5.4: gauge.lua:3: attempt to index nil", "gauge.lua:3"),
    ("   at Tide.Gauge.Read() in /workspace/Gauge.cs:line 9", "Gauge.cs:9 Tide.Gauge.Read()"),
    ("tests/test_gauge.py:3: \n    read()\ntide/gauge.py:7: LookupError", "tide/gauge.py:7"),
    ("nothing of the kind", ""),
]


@pytest.mark.parametrize(("stack", "said"), FRAMES)
def test_stacks_of_any_language_are_taken_apart(stack: str, said: str) -> None:
    own = [f for f in frames_of(stack) if f.own]
    assert (f"{own[0].file}:{own[0].line} {own[0].name}".strip() if own else "") == said


PAIRS = [
    ("expected:<[a]> but was:<[b]>", "a", "b"),
    ("expected: <1.50> but was: <1.25>", "1.50", "1.25"),
    ("expected [Mole] but found [Quay]", "Mole", "Quay"),
    ("Failed asserting that 4 is identical to 3.", "3", "4"),
    ("Error: expect(received).toBe(expected)\n\nExpected: 1.5\nReceived: 1.25", "1.5", "1.25"),
    ("expected { a: 1 } to deeply equal { a: 2 }", "{ a: 2 }", "{ a: 1 }"),
    ("\nexpected: 3\n     got: 4\n\n(compared using ==)", "3", "4"),
    ("g.cc:3\nExpected equality of these values:\n  1.25\n  1.5", "1.25", "1.5"),
    ("assertion `left == right` failed\n  left: 4\n right: 3", "3", "4"),
    ("got 4, want 3", "3", "4"),
    ("check 4 == 3 has failed [4 != 3]", "3", "4"),
    ("Compared values are not the same\n   Actual   (1): 4\n   Expected (2): 3", "3", "4"),
    ("#          got: '4'\n#     expected: '3'", "'3'", "'4'"),
    ("{assertEqual,[{line,4},{expected,1.5},{value,1.25}]}", "1.5", "1.25"),
    ("E   assert 4 == 3", "3", "4"),
    ("{\n  actual: false,\n  expected: true,\n  operator: 'strictEqual'\n}", "true", "false"),
    ("Expected values to be strictly equal:\n\n1.25 !== 1.5\n", "1.5", "1.25"),
    ("unexpected success: it was marked as failing", None, None),
]


@pytest.mark.parametrize(("message", "expected", "actual"), PAIRS)
def test_expected_and_actual_of_many_assertion_styles(message: str, expected: str | None, actual: str | None) -> None:
    pair = expected_and_actual(message, "")
    assert (pair.expected, pair.actual) == (expected, actual) if pair else expected is None


@given(st.integers(0, 10**12), st.uuids(), st.integers(0, 2**48), st.floats(0, 1e6, allow_nan=False))
def test_what_is_incidental_leaves_no_trace(number: int, ident: object, address: int, seconds: float) -> None:
    text = f"gauge {number} at {address:#x} of {ident} in /tmp/run-{number}/x.db after {seconds:.3f} s on 2026-11-23T10:00:00Z"
    assert normalised(text) == normalised(
        "gauge 1 at 0x1 of 0a1b2c3d-0000-1111-2222-333344445555 in /tmp/a after 2.000 s on 2025-01-02T03:04:05Z"
    )


def test_failures_of_known_causes_are_grouped_and_the_order_makes_no_difference() -> None:
    truth, failures = made(1500, 40, 5)
    signs = [signature_of(*f) for f in failures]
    groups = group(signs)
    precision, recall = scores(truth, [g.members for g in groups])
    assert precision > 0.98 and recall > 0.95
    assert sorted(m for g in groups for m in g.members) == list(range(1500))
    order = random.Random(3).sample(range(1500), 1500)
    turned = group([signs[i] for i in order])
    assert {frozenset(order[m] for m in g.members) for g in turned} == {frozenset(g.members) for g in groups}
    assert all(g.because for g in groups if len(g.members) > 1)


def test_assertions_without_words_stay_apart_by_class_and_exceptions_join_across_tests() -> None:
    one = signature_of("assert 1 == 2", "tests/a.py:3: in x\nE assert 1 == 2", "", "tests.a")
    other = signature_of("assert 3 == 4", "tests/b.py:9: in y\nE assert 3 == 4", "", "tests.b")
    stack = '  File "/workspace/tests/{}.py", line 3, in t\n  File "/workspace/tide.py", line 9, in read\n'
    first = signature_of("OSError: gauge 7 is shut", stack.format("a"), "OSError", "tests.a")
    second = signature_of("OSError: gauge 9 is shut", stack.format("b"), "", "tests.b")
    assert one.digest != other.digest and first.digest == second.digest
    assert [len(g.members) for g in group([one, other, first, second])] == [1, 1, 2]


KINDS = [
    ("ModuleNotFoundError: No module named 'gauge'", "module missing", "gauge is not installed"),
    ("Error: Cannot find module 'gauge'", "module missing", "gauge"),
    ("module 'lgauge' not found:", "module missing", "lgauge"),
    ("npm error package.json and package-lock.json are not in sync", "lock file out of date", "lock file"),
    ("ERROR: No matching distribution found for gauge==9", "no such version of a package", "gauge==9"),
    ("ERROR: ResolutionImpossible", "dependencies that exclude one another", "pins"),
    (
        "The conflict is caused by:\n    The user requested tide 0.1.dev1+g55ab (from /workspace)\n"
        "    gauge 2.0 depends on tide>=3\nERROR: ResolutionImpossible",
        "version without its tag",
        "tags = true",
    ),
    (
        "LookupError: setuptools-scm was unable to detect version for /workspace.",
        "version without its tag",
        "tags = true",
    ),
    ("ERROR: THESE PACKAGES DO NOT MATCH THE HASHES", "digest of a package differs", "locked"),
    (
        "ERROR: Package 'x' requires a different Python: 3.8.1 not in '>=3.9'",
        "runtime too old for a package",
        "drop the cell",
    ),
    ("SyntaxError: invalid syntax", "syntax of a newer runtime", "invalid syntax"),
    (
        "AttributeError: module 'tomllib' has no attribute 'load'",
        "attribute or function missing in this version",
        "version",
    ),
    ("src/gauge.c:7:3: error: expected ';'", "does not compile", "first error"),
    ("connect: Connection refused 127.0.0.1:5432", "connection refused", "127.0.0.1:5432"),
    ('FATAL:  database "logbook" does not exist', "database unknown", "logbook"),
    ('FATAL:  password authentication failed for user "tide"', "database user refused", "tide"),
    ('relation "readings" does not exist', "table or column missing", "readings"),
    ("sqlite3.OperationalError: database is locked", "database locked or deadlocked", "own database"),
    ("FATAL: sorry, too many clients already", "too many connections", "connection"),
    ("companion tide was not ready in 1 s", "companion did not become ready", "tide"),
    ("curl: (6) Could not resolve host: gauges.example", "name not resolved", "gauges.example"),
    ("OSError: [Errno 101] Network is unreachable", "network unreachable", "without a network"),
    ("ConnectionResetError: Connection reset by peer", "connection broken off", "other side"),
    ("ssl.SSLCertVerificationError: CERTIFICATE_VERIFY_FAILED", "certificate not accepted", "certificate"),
    ("HTTP/1.1 503 Service Unavailable", "service answers with an error", "503"),
    ("OSError: [Errno 98] Address already in use", "port taken", "free one"),
    ("PermissionError: [Errno 13] Permission denied: '/etc/tide'", "permission denied", "/etc/tide"),
    ("OSError: [Errno 30] Read-only file system: '/usr/x'", "read-only place", "/usr/x"),
    ("OSError: [Errno 28] No space left on device", "disk full", "full"),
    ("java.lang.OutOfMemoryError: Java heap space", "out of memory", "memory"),
    ("OSError: [Errno 24] Too many open files", "too many open files", "close"),
    ("RuntimeError: can't start new thread", "too many processes", "fewer"),
    ("Segmentation fault (core dumped)", "crashed", "debugger"),
    ("RecursionError: maximum recursion depth exceeded", "stack used up", "itself"),
    ("Test timed out after 5 s", "timeout", "in time"),
    ("collected 0 items", "no tests found", "filters"),
    ("ERROR collecting tests/test_gauge.py", "test cannot be collected", "tests/test_gauge.py"),
    ("E fixture 'gauge' not found", "fixture or set-up failed", "prepares"),
    ("Error: screenshot of gauge does differ by 12 pixels", "snapshot differs", "both"),
    ("FileNotFoundError: [Errno 2] No such file or directory: 'tides.csv'", "file missing", "tides.csv"),
    ("sh: 1: askharbour: not found", "command not found", "askharbour"),
    ("bash: ./run: cannot execute binary file: Exec format error", "cannot be executed", "architecture"),
    ("error while loading shared libraries: libgauge.so.1: cannot open", "shared library missing", "libgauge.so.1"),
    ("KeyError: 'TIDE_KEY'", "variable not set", "TIDE_KEY"),
    ("_tkinter.TclError: no display name and no $DISPLAY environment variable", "display missing", "virtual"),
    ("Error: Failed to launch the browser process", "browser did not start", "browser"),
    ("UnicodeDecodeError: 'ascii' codec", "locale or encoding", "UTF-8"),
    ("ZoneInfoNotFoundError: 'No time zone found'", "clock or time zone", "TZ"),
    ("fatal: couldn't find remote ref season", "git refused", "season"),
    ("npm error code ENEEDAUTH", "not signed in to a registry", "token"),
    ("would reformat tide.py", "style differs", "formatter"),
    ("Line coverage (83.3%) is below the expected minimum", "too little covered", "Coverage"),
    ("tide.py:5: error: Incompatible types in assignment", "types do not fit", "first one"),
    ("AssertionError: 1 != 2", "values differ", "another value"),
    ("Terminated", "stopped by a signal", "outside"),
]


@pytest.mark.parametrize(
    "text",
    [
        "    def test_rise():\n        try:\n            rise()\n        except UnicodeEncodeError:\n>           raise Adrift\n"
        "E           Adrift: seven\n\ntests/test_tide.py:5: Adrift",
        'Traceback (most recent call last):\n  File "tide.py", line 3, in rise\n    except PermissionError: pass\n'
        "    ^^^^^^^^^^^^\nAdrift: seven",
        "Adrift: seven\n  11 | try {\n> 12 |   if (e.code === 'ENOSPC') throw new Adrift(7)\n     |   ^",
    ],
)
def test_what_the_source_in_a_stack_mentions_did_not_happen(text: str) -> None:
    assert kind_of([text]) is None
    assert (told := kind_of([text + "\nOSError: No space left on device"])) is not None and told.name == "disk full"


@pytest.mark.parametrize(("text", "name", "said"), KINDS)
def test_a_kind_of_failure_is_told_with_its_next_step(text: str, name: str, said: str) -> None:
    told = kind_of([text])
    assert told is not None and told.name == name and said in told.say and "{" not in told.say, told
    assert len({k.name for k in usual_kinds()}) >= 40


def test_rules_of_a_project_are_checked_and_an_exit_status_tells_what_no_text_does() -> None:
    assert (told := kind_of(["nothing"], 137)) is not None and told.name == "out of memory"
    assert kind_of(["nothing"], 1) is None
    for wrong in (
        "[[kind]]",
        "kind = 1",
        '[[kind]]\nname="a"\nsay="b"',
        '[[kind]]\nname="a"\nsay="b"\npattern="("',
        '[[kind]]\nname="a"\nsay="b"\npattern=""',
        '[[kind]]\nname="a"\nsay="b"\nexit=[999]',
        "][",
    ):
        with pytest.raises(KindError):
            kinds_from(wrong)


def test_commits_are_ranked_by_what_they_touched() -> None:
    frames = frames_of(
        '  File "/workspace/tests/test_gauge.py", line 3, in t\n  File "/workspace/tide/read.py", line 9, in r'
    )
    ranked = rank(
        [
            Touched("docs", ("README.md",)),
            Touched("lock", ("requirements.txt",)),
            Touched("named", ("tide/gauge.py",)),
            Touched("test", ("tests/test_gauge.py",)),
            Touched("stack", ("tide/read.py",)),
        ],
        Failure(frames, ["tests/test_gauge.py"]),
    )
    assert [s.commit for s in ranked] == ["stack", "test", "named", "lock", "docs"]
    assert ranked[0].because == ("changed tide/read.py, which the stack names",) and ranked[-1].because == ()


@pytest.mark.parametrize(
    ("commits", "text", "together", "first"),
    [
        # the failing line calls what one of them changed; a word of the sentence is no name
        (
            [
                Touched("a", ("tide/ebb.py",), {"tide/ebb.py": ["water"]}),
                Touched("b", ("tide/flow.py",), {"tide/flow.py": ["level_at"]}),
            ],
            ">       assert level_at(3) == 4\nE       AssertionError: no water",
            {},
            ("b", "changed level_at in tide/flow.py, which the failure names"),
        ),
        (
            [Touched("a", ("docs/x.md",)), Touched("b", ("data/ports.csv",))],
            "cannot read data/ports.csv: line 3",
            {},
            ("b", "changed data/ports.csv, which the message names"),
        ),
        (
            [Touched("a", ("x.py",)), Touched("b", ("tide/ebb.py",))],
            "",
            {"tide/ebb.py": (6, 8), "x.py": (1, 8)},
            ("b", "changed tide/ebb.py, as 6 of 8 commits to the test's file did"),
        ),
        (
            [Touched("a", ("x.py",)), Touched("b", ("tide/ebb.py",))],
            "",
            {"x.py": (3, 8)},
            ("a", ""),
        ),  # in fewer than half
        # of two that the failure names, the one whose lines ran there
        (
            [
                Touched("a", ("p.py",), {"p.py": ["low_water"]}, {"p.py": False}),
                Touched("b", ("q.py",), {"q.py": ["low_water"]}, {"q.py": True}),
            ],
            "low_water(1)",
            {},
            ("b", "changed low_water in q.py, which the failure names"),
        ),
        # of two that the failure names, the one that changed more than comments
        (
            [
                Touched("a", ("p.py",), {"p.py": ["low_water"]}, {}, {"p.py"}),
                Touched("b", ("q.py", "r.py"), {"q.py": ["low_water"]}, {}, {"r.py"}),
            ],
            "low_water(1)",
            {},
            ("b", "changed low_water in q.py, which the failure names"),
        ),
        # another file of that name is not the one that the message names
        (
            [Touched("a", ("ebb/__init__.py",)), Touched("b", ("flow/__init__.py",))],
            "cannot import name low from flow/__init__.py",
            {},
            ("b", "changed flow/__init__.py, which the message names"),
        ),
        # nothing speaks for any of them: the newest is no likelier
        ([Touched("a", ("x.py",)), Touched("b", ("y.py",))], "assert 1 == 2", {"x.py": (2, 9)}, ("a", "")),
    ],
)
def test_the_likely_change_is_the_one_that_something_speaks_for(
    commits: list[Touched], text: str, together: dict[str, tuple[int, int]], first: tuple[str, str]
) -> None:
    ranked = rank(commits, Failure(text=text, together=together))
    assert (ranked[0].commit, *ranked[0].because[:1]) == tuple(filter(None, first)), ranked
    assert (ranked[0].score > ranked[1].score) == bool(first[1])


FUNCTIONS = """\
--- a/tide.py
+++ b/tide.py
@@ -3 +3 @@ def chunked(iterable, n):
-    return 1
+    return 2
@@ -9,0 +10,2 @@ class Gauge:
+    def opens(self):
+        low(1)
--- a/tide.lua
+++ b/tide.lua
@@ -4 +4 @@ local function tide.low(at)
-  a
+  b
--- a/x.js
+++ /dev/null
@@ -1 +0,0 @@
-function gone(a) {}
"""


@pytest.mark.parametrize(
    ("path", "rows", "idle"),
    [
        ("a.py", ["+# low", "-", "+    # water"], True),
        ("a.py", ["+# low", "+x = 1"], False),
        ("a.py", ["-x = 1", "+# x = 1"], False),
        ("a.lua", ["+-- low"], True),
        ("a.lua", ["+# low"], False),
        ("a.c", ["+// low", "-}", "+}"], True),
        ("notes", ["+low"], False),
        ("a.py", ["+# low", "\\ No newline at end of file"], True),
    ],
)
def test_a_change_of_comments_alone_is_idle(path: str, rows: list[str], idle: bool) -> None:
    old, new = (sum(r.startswith(s) for r in rows) for s in "-+")
    shown = "\n".join([f"--- a/{path}", f"+++ b/{path}", f"@@ -1,{old} +1,{new} @@ f", *rows, ""])
    assert idle_in(shown) == ({path} if idle else set())


def test_the_functions_of_a_change_and_what_a_failure_names() -> None:
    assert functions_in(FUNCTIONS) == {"tide.py": {"chunked", "Gauge", "opens"}, "tide.lua": {"low"}, "x.js": {"gone"}}
    said = "> assert list(mit.chunked(x)) == 1\nlow water\n tide.lua:3: in function 'tide.ebbs'\n 3 = opens (1)"
    assert named_in(said, {"chunked", "low", "ebbs", "opens", "water", "Gauge"}) == {"chunked", "ebbs", "opens"}


def test_tests_are_found_again_under_other_names_only_without_a_second_choice() -> None:
    def test(name: str, klass: str = "c", suite: str = "s") -> tuple[str, str, str, str]:
        return "unit", suite, klass, name

    pairs = [
        (test("opens_at_high_water"), test("opens_at_high_waters")),
        (test("drains", klass="old.place"), test("drains", klass="new.place")),
        (test("reads <gauge at 0x7f01>"), test("reads <gauge at 0x7f99>")),
    ]
    found = moved([a for a, _ in pairs], [b for _, b in pairs])
    assert sorted((m.before, m.now) for m in found) == [(0, 0), (1, 1), (2, 2)]
    assert moved([test("case_a1")], [test("case_a2"), test("case_a3")]) == []
    assert moved([test("ebb")], [test("something else altogether")]) == []


def test_quarantine_ends_on_proof() -> None:
    assert is_steady(0, 160) and not is_steady(0, 100) and not is_steady(1, 1000)


def test_levels_change_where_they_do_and_noise_changes_nothing() -> None:
    rng = np.random.default_rng(1)
    noise = rng.lognormal(0, 0.05, 60)
    assert level_changes(noise.tolist()) == []
    step = np.concatenate((noise, 2 * rng.lognormal(0, 0.05, 40)))
    [change] = level_changes(step.tolist())
    assert abs(change.at - 60) <= 1 and 1.8 < change.now / change.before < 2.2
    assert level_changes([1.0, float("nan"), 2.0]) == []


def test_a_slower_test_is_told_apart_from_a_slower_machine() -> None:
    rng = np.random.default_rng(2)
    before = {c: rng.lognormal(-1, 0.5, 100) + 0.1 for c in "ab"}
    now = {c: s * 1.6 * rng.lognormal(0, 0.03, 100) for c, s in before.items()}
    assert slower(now, before) == []
    for c in now:
        now[c][7] *= 4
    now["a"][9] *= 4  # in one cell only
    assert [s.test for s in slower(now, before)] == [7]


def test_files_that_look_like_tests_and_focused_ones_are_named() -> None:
    files = ["tests/test_tide.py", "tests/test_gauge.py", "tests/test_lost.py", "src/tide.py", "web/a.test.ts"]
    assert not_run(files, ["tests.test_tide.TestLow", "tests.test_gauge"]) == ["tests/test_lost.py"]
    assert not_run(files, ["Low water", "High water"]) == []
    assert leftovers([("a.test.ts", "x\n  it.only('low', f)\n"), ("b.test.ts", "it('only', f)")]) == [
        ("a.test.ts", 2, "it.only('low', f)")
    ]


def test_times_with_units_and_separators() -> None:
    times = ("1,234.5", "0,25", "1.234,5", "00:01:02.5", "12 ms", "1 234.5", "1'234.5")
    assert [odd_time(t) for t in times] == [1234.5, 0.25, 1234.5, 62.5, 0.012, 1234.5, 1234.5]
    assert math.isnan(odd_time("soon"))
